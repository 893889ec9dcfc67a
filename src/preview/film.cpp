// Pictures, videos and sound through FFmpeg's libraries, which read the content where it lies on the medium, and what
// these do not know through others.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <memory>

#define STB_IMAGE_IMPLEMENTATION
#define STB_IMAGE_STATIC
#define STBI_ONLY_PSD
#include <stb/stb_image.h>

#include "formats/reader.h"
#include "preview/decoders.h"
#include "preview/film_libraries.h"

namespace dredger::preview {
namespace {

constexpr int kRoom = 64 << 10;                   // bytes read at once
constexpr unsigned kMaxPackets = 4000;            // to come to a frame
constexpr std::uint64_t kMaxHeif = 128 << 20;     // bytes
constexpr std::uint64_t kMaxLayered = 512 << 20;  // bytes

template <auto Free>
struct FreedBy {
    template <class T>
    void operator()(T* object) const {
        (ffmpeg().*Free)(&object);
    }
};
using Codec = std::unique_ptr<AVCodecContext, FreedBy<&Ffmpeg::avcodec_free_context>>;
using Frame = std::unique_ptr<AVFrame, FreedBy<&Ffmpeg::av_frame_free>>;
using Packet = std::unique_ptr<AVPacket, FreedBy<&Ffmpeg::av_packet_free>>;
using Resampler = std::unique_ptr<SwrContext, FreedBy<&Ffmpeg::swr_free>>;

class Container {
  public:
    explicit Container(const Medium& content) : content_(content) {
        ffmpeg().av_log_set_level(AV_LOG_QUIET);
        io_ = ffmpeg().avio_alloc_context(static_cast<unsigned char*>(ffmpeg().av_malloc(kRoom)), kRoom, 0, this, read,
                                          nullptr, seek);
        format_ = ffmpeg().avformat_alloc_context();
        format_->pb = io_;
        format_->flags |= AVFMT_FLAG_CUSTOM_IO;
        // Nothing but this content is opened, whatever it refers to.
        ffmpeg().av_opt_set(format_, "protocol_whitelist", "", 0);
        ffmpeg().av_opt_set_int(format_, "enable_drefs", 0, AV_OPT_SEARCH_CHILDREN);
        if (ffmpeg().avformat_open_input(&format_, nullptr, nullptr, nullptr) < 0) return;
        is_open_ = ffmpeg().avformat_find_stream_info(format_, nullptr) >= 0;
    }
    ~Container() {
        ffmpeg().avformat_close_input(&format_);
        ffmpeg().av_freep(&io_->buffer);
        ffmpeg().avio_context_free(&io_);
    }
    Container(const Container&) = delete;
    Container& operator=(const Container&) = delete;

    // Opens the best stream of this type; none where there is none that can be decoded.
    Codec open(AVMediaType type, int& stream) {
        const AVCodec* decoder = nullptr;
        stream = is_open_ ? ffmpeg().av_find_best_stream(format_, type, -1, -1, &decoder, 0) : -1;
        if (stream < 0 || decoder == nullptr) return nullptr;
        Codec codec(ffmpeg().avcodec_alloc_context3(decoder));
        if (ffmpeg().avcodec_parameters_to_context(codec.get(), format_->streams[stream]->codecpar) < 0) return nullptr;
        if (codec->width > 20'000 || codec->height > 20'000) return nullptr;
        codec->thread_count = 1;
        return ffmpeg().avcodec_open2(codec.get(), decoder, nullptr) < 0 ? nullptr : std::move(codec);
    }
    AVFormatContext* format() { return format_; }
    double seconds() const { return format_->duration > 0 ? static_cast<double>(format_->duration) / AV_TIME_BASE : 0; }

    // The next frame of the stream. False at the end.
    bool next(AVCodecContext& codec, int stream, AVFrame& frame) {
        Packet packet(ffmpeg().av_packet_alloc());
        for (unsigned n = 0; n < kMaxPackets; ++n) {
            if (ffmpeg().avcodec_receive_frame(&codec, &frame) >= 0) return true;
            if (drained_) return false;
            if (ffmpeg().av_read_frame(format_, packet.get()) < 0) {
                drained_ = true;
                ffmpeg().avcodec_send_packet(&codec, nullptr);
                continue;
            }
            if (packet->stream_index == stream) ffmpeg().avcodec_send_packet(&codec, packet.get());
            ffmpeg().av_packet_unref(packet.get());
        }
        return false;
    }
    bool go_to(AVCodecContext& codec, double second) {
        drained_ = false;
        if (ffmpeg().av_seek_frame(format_, -1, static_cast<std::int64_t>(second * AV_TIME_BASE),
                                   AVSEEK_FLAG_BACKWARD) < 0)
            return false;
        ffmpeg().avcodec_flush_buffers(&codec);
        return true;
    }

  private:
    static int read(void* self, std::uint8_t* into, int most) {
        auto& container = *static_cast<Container*>(self);
        const std::uint64_t left = container.content_.size() - std::min(container.content_.size(), container.at_);
        const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(left, static_cast<std::uint64_t>(most)));
        if (length == 0) return AVERROR_EOF;
        std::vector<Extent> bad;
        const std::span<std::byte> room(reinterpret_cast<std::byte*>(into), length);
        if (!container.content_.read(container.at_, room, &bad)) return AVERROR(EIO);
        container.at_ += length;
        return static_cast<int>(length);
    }
    static std::int64_t seek(void* self, std::int64_t offset, int whence) {
        auto& container = *static_cast<Container*>(self);
        const auto size = static_cast<std::int64_t>(container.content_.size());
        if (whence == AVSEEK_SIZE) return size;
        const std::int64_t from = whence == SEEK_CUR   ? static_cast<std::int64_t>(container.at_)
                                  : whence == SEEK_END ? size
                                                       : 0;
        if (offset < -from || offset > size - from) return AVERROR(EINVAL);
        container.at_ = static_cast<std::uint64_t>(from + offset);
        return from + offset;
    }

    const Medium& content_;
    std::uint64_t at_ = 0;
    AVIOContext* io_ = nullptr;
    AVFormatContext* format_ = nullptr;
    bool is_open_ = false;
    bool drained_ = false;
};

Picture reduced(const AVFrame& frame, int side) {
    Picture picture;
    if (frame.width <= 0 || frame.height <= 0) return picture;
    const double factor = std::min(1.0, static_cast<double>(side) / std::max(frame.width, frame.height));
    picture.width = std::max(1, static_cast<int>(std::lround(frame.width * factor)));
    picture.height = std::max(1, static_cast<int>(std::lround(frame.height * factor)));
    SwsContext* scaler =
        ffmpeg().sws_getContext(frame.width, frame.height, static_cast<AVPixelFormat>(frame.format), picture.width,
                                picture.height, AV_PIX_FMT_BGR0, SWS_AREA, nullptr, nullptr, nullptr);
    if (scaler == nullptr) return {};
    picture.pixels.resize(static_cast<std::size_t>(picture.width) * static_cast<std::size_t>(picture.height));
    std::uint8_t* into[] = {reinterpret_cast<std::uint8_t*>(picture.pixels.data()), nullptr, nullptr, nullptr};
    const int strides[] = {4 * picture.width, 0, 0, 0};
    ffmpeg().sws_scale(scaler, frame.data, frame.linesize, 0, frame.height, into, strides);
    ffmpeg().sws_freeContext(scaler);
    picture.good_rows = picture.height;
    return picture;
}

std::optional<Picture> decode_heif(const Medium& content, int side) {
    if (!heif().is_there() || content.size() > kMaxHeif) return std::nullopt;
    const auto bytes = content.bytes(0, static_cast<std::size_t>(content.size()));
    if (!bytes) return std::nullopt;
    const std::unique_ptr<heif_context, void (*)(heif_context*)> context(heif().heif_context_alloc(),
                                                                         heif().heif_context_free);
    heif_image_handle* handle = nullptr;
    heif_image* image = nullptr;
    Picture picture;
    if (heif().heif_context_read_from_memory_without_copy(context.get(), bytes->data(), bytes->size(), nullptr).code ==
            0 &&
        heif().heif_context_get_primary_image_handle(context.get(), &handle).code == 0 &&
        heif().heif_decode_image(handle, &image, heif_colorspace_RGB, heif_chroma_interleaved_RGB, nullptr).code == 0) {
        const Frame frame(ffmpeg().av_frame_alloc());
        frame->format = AV_PIX_FMT_RGB24;
        frame->width = heif().heif_image_get_primary_width(image);
        frame->height = heif().heif_image_get_primary_height(image);
        frame->data[0] = heif().heif_image_get_plane(image, heif_channel_interleaved, &frame->linesize[0]);
        if (frame->data[0] != nullptr) picture = reduced(*frame, side);
        frame->data[0] = nullptr;
    }
    if (image != nullptr) heif().heif_image_release(image);
    if (handle != nullptr) heif().heif_image_handle_release(handle);
    if (picture.empty()) return std::nullopt;
    return picture;
}

// The merged picture of a layered one, which FFmpeg does not unpack.
std::optional<Picture> decode_psd(const Medium& content, int side) {
    if (content.size() > kMaxLayered) return std::nullopt;
    const auto bytes = content.bytes(0, static_cast<std::size_t>(content.size()));
    if (!bytes) return std::nullopt;
    const Frame frame(ffmpeg().av_frame_alloc());
    const std::unique_ptr<stbi_uc, void (*)(void*)> pixels(
        stbi_load_from_memory(reinterpret_cast<const stbi_uc*>(bytes->data()), static_cast<int>(bytes->size()),
                              &frame->width, &frame->height, nullptr, STBI_rgb),
        stbi_image_free);
    if (!pixels) return std::nullopt;
    frame->format = AV_PIX_FMT_RGB24;
    frame->data[0] = pixels.get();
    frame->linesize[0] = 3 * frame->width;
    Picture picture = reduced(*frame, side);
    frame->data[0] = nullptr;
    if (picture.empty()) return std::nullopt;
    return picture;
}

}  // namespace

std::optional<Picture> decode_picture(const Medium& content, int side) {
    Budget budget;
    Reader head(content, budget);
    if (head.has(4, "ftyp"))
        if (auto picture = decode_heif(content, side)) return picture;
    if (head.has(0, "8BPS"))
        if (auto picture = decode_psd(content, side)) return picture;
    Film film = decode_film(content, 1, side);
    if (!film.frames.empty()) return std::move(film.frames.front());
    return decode_largest_jpeg(content, side);
}

Film decode_film(const Medium& content, unsigned frames, int side) {
    Film film;
    if (!ffmpeg().is_there()) return film;
    Container container(content);
    int stream = -1;
    const Codec codec = container.open(AVMEDIA_TYPE_VIDEO, stream);
    if (!codec) return film;
    film.seconds = container.seconds();
    film.described =
        fmt::format("{}, {} x {}", ffmpeg().avcodec_get_name(codec->codec_id), codec->width, codec->height);
    const Frame frame(ffmpeg().av_frame_alloc());
    for (unsigned i = 0; i < frames; ++i) {
        if (frames > 1 && film.seconds > 1 && i > 0) container.go_to(*codec, film.seconds * i / frames);
        if (!container.next(*codec, stream, *frame)) continue;
        if (Picture picture = reduced(*frame, side); !picture.empty()) film.frames.push_back(std::move(picture));
        ffmpeg().av_frame_unref(frame.get());
    }
    return film;
}

std::optional<Sound> decode_sound(const Medium& content) {
    constexpr std::size_t kClip = 20 * Sound::kRate;
    constexpr std::size_t kBucket = Sound::kRate / 20;
    if (!ffmpeg().is_there()) return std::nullopt;
    Container container(content);
    int stream = -1;
    const Codec codec = container.open(AVMEDIA_TYPE_AUDIO, stream);
    if (!codec) return std::nullopt;
    Sound sound;
    sound.described = fmt::format("{}, {} Hz, {} channels", ffmpeg().avcodec_get_name(codec->codec_id),
                                  codec->sample_rate, codec->ch_layout.nb_channels);
    AVChannelLayout one = AV_CHANNEL_LAYOUT_MONO;
    SwrContext* raw = nullptr;
    if (ffmpeg().swr_alloc_set_opts2(&raw, &one, AV_SAMPLE_FMT_S16, Sound::kRate, &codec->ch_layout, codec->sample_fmt,
                                     codec->sample_rate, 0, nullptr) < 0)
        return std::nullopt;
    const Resampler resampler(raw);
    if (ffmpeg().swr_init(raw) < 0) return std::nullopt;
    const Frame frame(ffmpeg().av_frame_alloc());
    std::vector<std::int16_t> samples;
    std::size_t count = 0;
    while (container.next(*codec, stream, *frame)) {
        samples.resize(static_cast<std::size_t>(std::max(0, ffmpeg().swr_get_out_samples(raw, frame->nb_samples))));
        auto* into = reinterpret_cast<std::uint8_t*>(samples.data());
        const int got = ffmpeg().swr_convert(raw, &into, static_cast<int>(samples.size()),
                                             const_cast<const std::uint8_t**>(frame->extended_data), frame->nb_samples);
        for (int i = 0; i < got; ++i, ++count) {
            const std::int16_t sample = samples[static_cast<std::size_t>(i)];
            if (count / kBucket >= sound.peaks.size()) sound.peaks.push_back(0);
            sound.peaks.back() = std::max(sound.peaks.back(), std::abs(static_cast<float>(sample)) / 32768.0F);
            if (sound.clip.size() < kClip) sound.clip.push_back(sample);
        }
        ffmpeg().av_frame_unref(frame.get());
    }
    if (count == 0) return std::nullopt;
    sound.seconds = static_cast<double>(count) / Sound::kRate;
    return sound;
}

}  // namespace dredger::preview
