#include <algorithm>
#include <array>
#include <csetjmp>
#include <cstdio>
#include <jpeglib.h>

#include "formats/reader.h"
#include "preview/decoders.h"

namespace dredger::preview {
namespace {

constexpr int kMaxSide = 20'000;  // pixels

// libjpeg leaves by longjmp where it gives up, and reports what it mends as a warning.
struct Errors {
    jpeg_error_mgr base;
    std::jmp_buf leave;
};
void give_up(j_common_ptr info) { std::longjmp(reinterpret_cast<Errors*>(info->err)->leave, 1); }
void say_nothing(j_common_ptr) {}

struct Source {
    jpeg_source_mgr base;
    Reader* reader;
    std::uint64_t at;
    bool ended;
};
void start(j_decompress_ptr) {}
void finish(j_decompress_ptr) {}
boolean fill(j_decompress_ptr info) {
    static const JOCTET kEnd[] = {0xFF, JPEG_EOI};
    auto* source = reinterpret_cast<Source*>(info->src);
    // What can't be read comes as zeros, so that what lies behind it can still be seen.
    static constexpr std::array<std::byte, 512> kUnread{};
    auto here = source->reader->some(source->at);
    if (here.empty() && source->reader->trouble() == Reader::Trouble::unreadable && source->at < source->reader->size())
        here = kUnread;
    source->ended = here.empty();
    source->at += here.size();
    source->base.next_input_byte = source->ended ? kEnd : reinterpret_cast<const JOCTET*>(here.data());
    source->base.bytes_in_buffer = source->ended ? sizeof kEnd : here.size();
    return TRUE;
}
void skip(j_decompress_ptr info, long count) {
    while (count > 0) {
        if (info->src->bytes_in_buffer == 0) fill(info);
        if (reinterpret_cast<Source*>(info->src)->ended) return;
        const auto step = std::min<std::size_t>(info->src->bytes_in_buffer, static_cast<std::size_t>(count));
        info->src->next_input_byte += step;
        info->src->bytes_in_buffer -= step;
        count -= static_cast<long>(step);
    }
}

// As the camera was held (Exif 2.32, tag 0x0112); 1 where nothing is said.
unsigned orientation_of(Reader& content) {
    for (std::uint64_t at = 2; content.u8(at) == 0xFF && content.u8(at + 1) != 0xDA;) {
        const std::uint64_t size = content.u16be(at + 2);
        if (size < 2) break;
        if (content.u8(at + 1) == 0xE1 && content.has(at + 4, std::string_view("Exif\0\0", 6))) {
            const std::uint64_t tiff = at + 10;
            const bool big = content.has(tiff, "MM");
            const auto u16 = [&](std::uint64_t p) { return big ? content.u16be(p) : content.u16le(p); };
            const std::uint64_t directory = tiff + (big ? content.u32be(tiff + 4) : content.u32le(tiff + 4));
            for (unsigned i = 0, count = u16(directory); i < count; ++i)
                if (u16(directory + 2 + 12 * std::uint64_t{i}) == 0x0112)
                    return u16(directory + 2 + 12 * std::uint64_t{i} + 8);
        }
        at += 2 + size;
    }
    return 1;
}

struct Decoding {
    jpeg_decompress_struct info;
    Errors errors;
    Source source;
    Picture picture;
    std::vector<JSAMPLE> row;
};

void read_header(Decoding& d, int side) {
    jpeg_decompress_struct& info = d.info;
    jpeg_create_decompress(&info);
    info.src = &d.source.base;
    jpeg_read_header(&info, TRUE);
    if (info.image_width > kMaxSide || info.image_height > kMaxSide) give_up(reinterpret_cast<j_common_ptr>(&info));
    const auto longer = static_cast<int>(std::max(info.image_width, info.image_height));
    info.scale_num = 1;
    info.scale_denom = 1;
    while (info.scale_denom < 8 && longer / static_cast<int>(2 * info.scale_denom) >= side) info.scale_denom *= 2;
    info.out_color_space = info.jpeg_color_space == JCS_GRAYSCALE ? JCS_GRAYSCALE
                           : info.num_components == 4             ? JCS_CMYK
                                                                  : JCS_RGB;
    jpeg_start_decompress(&info);
    d.picture.width = static_cast<int>(info.output_width);
    d.picture.height = static_cast<int>(info.output_height);
    d.picture.pixels.assign(std::size_t{info.output_width} * info.output_height, 0x808080);
    d.row.resize(std::size_t{info.output_width} * static_cast<std::size_t>(info.output_components));
}

void read_rows(Decoding& d) {
    jpeg_decompress_struct& info = d.info;
    const auto parts = static_cast<std::size_t>(info.output_components);
    JSAMPROW rows[] = {d.row.data()};
    while (info.output_scanline < info.output_height) {
        const auto y = static_cast<std::size_t>(info.output_scanline);
        jpeg_read_scanlines(&info, rows, 1);
        if (d.errors.base.num_warnings == 0) d.picture.good_rows = static_cast<int>(y) + 1;
        for (std::size_t x = 0; x < info.output_width; ++x) {
            const JSAMPLE* p = &d.row[x * parts];
            const auto colour = [&](std::size_t i) -> std::uint32_t {
                if (parts == 1) return p[0];
                return parts == 4 ? p[i] * p[3] / 255U : p[i];  // CMYK is kept inverted
            };
            d.picture.pixels[y * info.output_width + x] = colour(0) << 16 | colour(1) << 8 | colour(2);
        }
    }
}

// All that is left of it when libjpeg gives up lies in `d`.
void decode(Decoding& d, int side) {
    if (setjmp(d.errors.leave) != 0) return;
    read_header(d, side);
    read_rows(d);
}

}  // namespace

std::optional<Picture> decode_jpeg(const Medium& content, int side) {
    Budget budget;
    Reader reader(content, budget);
    Decoding d{};
    d.source.reader = &reader;
    d.source.base.init_source = start;
    d.source.base.fill_input_buffer = fill;
    d.source.base.skip_input_data = skip;
    d.source.base.resync_to_restart = jpeg_resync_to_restart;
    d.source.base.term_source = finish;
    d.info.err = jpeg_std_error(&d.errors.base);
    d.errors.base.error_exit = give_up;
    d.errors.base.output_message = say_nothing;
    decode(d, side);
    jpeg_destroy_decompress(&d.info);
    if (d.picture.good_rows == 0) return std::nullopt;
    return oriented(d.picture, orientation_of(reader));
}

}  // namespace dredger::preview
