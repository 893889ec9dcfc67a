#include "repairing/film/sample_syntax.h"

#include <algorithm>
#include <array>

#include "repairing/film/aac_frame.h"
#include "repairing/film/nal_units.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;
using Bytes = std::span<const std::uint8_t>;

Bytes bytes_of(std::string_view text) { return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}; }

// What a box within a sample description holds, wherever in it that stands.
Bytes box_within(const std::string& description, std::string_view name) {
    const std::size_t found = description.find(name);
    if (found == description.npos || found < 4) return {};
    const Bytes all = bytes_of(description);
    const std::size_t length = std::size_t{all[found - 4]} << 24 | std::size_t{all[found - 3]} << 16 |
                               std::size_t{all[found - 2]} << 8 | all[found - 1];
    if (length < 8 || found - 4 + length > all.size()) return {};
    return all.subspan(found + 4, length - 8);
}

// Pictures of H.264 and HEVC: units, each with its length before it, up to where the next picture begins.
template <class Setup>
class Units final : public SampleSyntax {
  public:
    using Read = NalUnit (*)(Bytes);
    using Order = std::optional<unsigned> (*)(Bytes, const Setup&);
    Units(const Setup& setup, Read read, Order order) : setup_(setup), read_(read), order_(order) {}

    std::size_t length(Bytes bytes) const override {
        bool has_slice = false;
        std::size_t end = 0;
        each(bytes, [&](Bytes, const NalUnit& found, std::size_t unit_end) {
            if (has_slice && (found.begins_picture || !found.may_follow_slice)) return false;
            if (!has_slice && found.is_slice && !found.begins_picture) return false;  // its first slice is lost
            has_slice = has_slice || found.is_slice;
            end = unit_end;
            return true;
        });
        return has_slice ? end : 0;
    }

    bool is_sync(Bytes sample) const override {
        bool sync = false;
        each(sample, [&](Bytes, const NalUnit& found, std::size_t) {
            sync = sync || found.is_sync;
            return true;
        });
        return sync;
    }

    void set_order(std::vector<FilmSample>& samples, const BytesOf& bytes_of_sample) const override {
        std::vector<std::int64_t> places(samples.size());
        const auto around = std::int64_t{1} << setup_.order_bits;
        std::int64_t high = 0;
        std::int64_t before = 0;
        std::int64_t sequence = 0;  // keeps those before a sync sample in front of it
        for (std::size_t i = 0; i < samples.size(); ++i) {
            std::optional<unsigned> order;
            each(bytes_of_sample(samples[i]), [&](Bytes unit, const NalUnit& found, std::size_t) {
                if (found.is_slice) order = order_(unit, setup_);
                return !found.is_slice;
            });
            if (!order) return;
            if (samples[i].is_sync) {
                high = 0;
                before = 0;
                sequence += std::int64_t{1} << 40;
            }
            // The low bits come around (8.2.1.1).
            const std::int64_t low = *order;
            if (low < before && before - low >= around / 2) high += around;
            if (low > before && low - before > around / 2) high -= around;
            before = low;
            places[i] = sequence + high + low;
        }
        std::vector<std::int64_t> sorted = places;
        std::sort(sorted.begin(), sorted.end());
        if (std::adjacent_find(sorted.begin(), sorted.end()) != sorted.end()) return;  // fields, or damage
        std::int64_t latest = 0;
        std::vector<std::int64_t> shifts(samples.size());
        for (std::size_t i = 0; i < samples.size(); ++i) {
            const auto shown = std::lower_bound(sorted.begin(), sorted.end(), places[i]) - sorted.begin();
            shifts[i] = shown - static_cast<std::int64_t>(i);
            latest = std::max(latest, -shifts[i]);
        }
        for (std::size_t i = 0; i < samples.size(); ++i)
            samples[i].shift = static_cast<std::int32_t>((shifts[i] + latest) * samples[i].duration);
    }

  private:
    template <class Visit>
    void each(Bytes bytes, const Visit& visit) const {
        const std::size_t wide = setup_.length_bytes;
        for (std::size_t at = 0; at + wide < bytes.size();) {
            std::size_t length = 0;
            for (std::size_t i = 0; i < wide; ++i) length = length << 8 | bytes[at + i];
            if (length == 0 || length > bytes.size() - at - wide) return;
            const Bytes unit = bytes.subspan(at + wide, length);
            const NalUnit found = read_(unit);
            at += wide + length;
            if (!found.is_valid || !visit(unit, found, at)) return;
        }
    }

    Setup setup_;
    Read read_;
    Order order_;
};

class AacFrames final : public SampleSyntax {
  public:
    explicit AacFrames(const AacSetup& setup) : setup_(setup) {}
    std::size_t length(Bytes bytes) const override { return aac_frame_length(bytes, setup_); }
    bool is_telling() const override { return false; }
    // With the element of one channel or of a pair, or filling.
    bool may_begin(std::uint8_t byte) const override {
        const bool is_single = (byte & 0xFEU) == 0;
        const bool is_pair = (byte & 0xFEU) == 0x20;
        return byte == 0xDE || (setup_.channels == 1   ? is_single
                                : setup_.channels == 2 ? is_pair
                                                       : is_single || is_pair);
    }

  private:
    AacSetup setup_;
};

// Pictures that are JPEGs, from their first marker to their last.
class JpegFrames final : public SampleSyntax {
  public:
    std::size_t length(Bytes bytes) const override {
        if (bytes.size() < 4 || bytes[0] != 0xFF || bytes[1] != 0xD8 || bytes[2] != 0xFF) return 0;
        std::size_t at = 2;
        while (at + 4 <= bytes.size()) {
            if (bytes[at] != 0xFF) return 0;
            const std::uint8_t marker = bytes[at + 1];
            if (marker == 0xFF) {
                ++at;
                continue;
            }
            if (marker == 0xD9) return at + 2;
            at += 2 + (std::size_t{bytes[at + 2]} << 8 | bytes[at + 3]);
            if (marker != 0xDA) continue;
            while (at + 2 <= bytes.size() &&
                   !(bytes[at] == 0xFF && bytes[at + 1] != 0 && (bytes[at + 1] < 0xD0 || bytes[at + 1] > 0xD7)))
                ++at;
            if (at + 2 <= bytes.size() && bytes[at + 1] == 0xD9) return at + 2;
        }
        return 0;
    }
};

// ISO/IEC 11172-3, 2.4.1.3, and ISO/IEC 13818-3.
class MpegSound final : public SampleSyntax {
  public:
    bool may_begin(std::uint8_t byte) const override { return byte == 0xFF; }
    std::size_t length(Bytes bytes) const override {
        constexpr unsigned kRates[2][15] = {{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320},
                                            {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}};
        constexpr unsigned kFrequencies[] = {44100, 48000, 32000};
        if (bytes.size() < 4 || bytes[0] != 0xFF || (bytes[1] & 0xE0U) != 0xE0) return 0;
        const unsigned version = bytes[1] >> 3 & 3U;
        const unsigned layer = bytes[1] >> 1 & 3U;
        const unsigned rate = bytes[2] >> 4;
        const unsigned frequency = bytes[2] >> 2 & 3U;
        if (version == 1 || layer != 1 || rate == 0 || rate == 15 || frequency == 3) return 0;
        const unsigned divided = version == 3 ? 1 : version == 2 ? 2 : 4;
        const std::size_t length = (version == 3 ? 144000U : 72000U) * kRates[version == 3 ? 0 : 1][rate] /
                                       (kFrequencies[frequency] / divided) +
                                   (bytes[2] >> 1 & 1U);
        return length <= bytes.size() ? length : 0;
    }
};

// 3GPP TS 26.101 and 26.201: the first byte tells how long a frame is.
class AmrFrames final : public SampleSyntax {
  public:
    explicit AmrFrames(bool is_wide) : is_wide_(is_wide) {}
    std::size_t length(Bytes bytes) const override {
        constexpr std::size_t kNarrow[16] = {13, 14, 16, 18, 20, 21, 27, 32, 6, 0, 0, 0, 0, 0, 0, 1};
        constexpr std::size_t kWide[16] = {18, 24, 33, 37, 41, 47, 51, 59, 61, 6, 0, 0, 0, 0, 1, 1};
        if (bytes.empty() || (bytes[0] & 0x83U) != 0) return 0;
        const unsigned kind = bytes[0] >> 3 & 15U;
        const std::size_t length = is_wide_ ? kWide[kind] : kNarrow[kind];
        return length <= bytes.size() ? length : 0;
    }
    bool is_telling() const override { return false; }

  private:
    bool is_wide_;
};

// ETSI TS 102 366, 4.4.1.
class Ac3Frames final : public SampleSyntax {
  public:
    bool may_begin(std::uint8_t byte) const override { return byte == 0x0B; }
    std::size_t length(Bytes bytes) const override {
        constexpr unsigned kRates[] = {32,  40,  48,  56,  64,  80,  96,  112, 128, 160,
                                       192, 224, 256, 320, 384, 448, 512, 576, 640};
        if (bytes.size() < 6 || bytes[0] != 0x0B || bytes[1] != 0x77) return 0;
        const unsigned frequency = bytes[4] >> 6;
        const unsigned code = bytes[4] & 63U;
        if (frequency == 3 || code / 2 >= std::size(kRates)) return 0;
        const unsigned rate = kRates[code / 2];
        const std::size_t length = frequency == 0   ? 4 * std::size_t{rate}
                                   : frequency == 2 ? 6 * std::size_t{rate}
                                                    : 2 * (std::size_t{320} * rate / 147 + (code & 1U));
        return length <= bytes.size() ? length : 0;
    }
};

// Apple ProRes (SMPTE RDD 36): a frame tells its length.
class ProResFrames final : public SampleSyntax {
  public:
    std::size_t length(Bytes bytes) const override {
        constexpr std::array<std::uint8_t, 4> kMark = {'i', 'c', 'p', 'f'};
        if (bytes.size() < 8 || !std::equal(kMark.begin(), kMark.end(), bytes.begin() + 4)) return 0;
        const std::size_t length =
            std::size_t{bytes[0]} << 24 | std::size_t{bytes[1]} << 16 | std::size_t{bytes[2]} << 8 | bytes[3];
        return length > 8 && length <= bytes.size() ? length : 0;
    }
};

// H.263 (ITU-T H.263, 5.1): a picture begins with a start code of 22 bits, and has no length.
class BaselinePictures final : public SampleSyntax {
  public:
    bool has_no_length() const override { return true; }
    std::size_t length(Bytes) const override { return 0; }
    bool begins(Bytes bytes) const override {
        return bytes.size() > 4 && bytes[0] == 0 && bytes[1] == 0 && (bytes[2] & 0xFCU) == 0x80 &&
               (bytes[3] & 0x02U) != 0;
    }
    // Whether it was made without another picture: bit 9 of its type (5.1.3).
    bool is_sync(Bytes sample) const override { return sample.size() > 4 && (sample[4] & 0x02U) == 0; }
};

// MPEG-4 part 2 (ISO/IEC 14496-2, 6.2): a picture begins with a start code, perhaps behind headers, and has no length.
class VisualObjects final : public SampleSyntax {
  public:
    bool has_no_length() const override { return true; }
    std::size_t length(Bytes) const override { return 0; }
    std::size_t picture_in(Bytes bytes) const override { return find_picture(bytes); }
    bool begins(Bytes bytes) const override {
        if (bytes.size() < 5 || bytes[0] != 0 || bytes[1] != 0 || bytes[2] != 1) return false;
        return bytes[3] == 0xB6 || bytes[3] == 0xB0 || bytes[3] == 0xB3 || bytes[3] == 0xB5 || bytes[3] == 0x00;
    }
    bool is_sync(Bytes sample) const override {
        const std::size_t picture = find_picture(sample);
        return sample.size() - picture > 4 && (sample[picture + 4] & 0xC0U) == 0;
    }

  private:
    static std::size_t find_picture(Bytes bytes) {
        constexpr std::uint8_t kPicture[] = {0, 0, 1, 0xB6};
        return static_cast<std::size_t>(
            std::search(bytes.begin(), bytes.end(), std::begin(kPicture), std::end(kPicture)) - bytes.begin());
    }
};

// The decoder's configuration within a description of MPEG-4 (ISO/IEC 14496-1, 7.2.6): its type, and what is its own.
struct Decoder {
    unsigned type = 0;
    Bytes own;
};
Decoder decoder_in(Bytes esds) {
    Decoder found;
    if (esds.size() < 4) return found;
    Bytes rest = esds.subspan(4);
    const auto enter = [&](unsigned tag) {
        if (rest.empty() || rest[0] != tag) return false;
        rest = rest.subspan(1);
        while (!rest.empty() && (rest[0] & 0x80U) != 0) rest = rest.subspan(1);
        if (rest.empty()) return false;
        rest = rest.subspan(1);
        return true;
    };
    if (!enter(3) || rest.size() < 3) return found;
    rest = rest.subspan(3);
    if (!enter(4) || rest.size() < 13) return found;
    found.type = rest[0];
    rest = rest.subspan(13);
    if (enter(5)) found.own = rest;
    return found;
}

}  // namespace

std::unique_ptr<SampleSyntax> syntax_of(const FilmTrack& track) {
    const std::string& codec = track.codec;
    const auto is_one_of = [&](std::initializer_list<std::string_view> names) {
        return std::find(names.begin(), names.end(), codec) != names.end();
    };
    if (is_one_of({"avc1", "avc3"}))
        return std::make_unique<Units<AvcSetup>>(avc_setup(box_within(track.description, "avcC")), avc_unit, avc_order);
    if (is_one_of({"hvc1", "hev1"}))
        return std::make_unique<Units<HevcSetup>>(hevc_setup(box_within(track.description, "hvcC")), hevc_unit,
                                                  hevc_order);
    if (is_one_of({"mp4a"})) {
        const Decoder decoder = decoder_in(box_within(track.description, "esds"));
        if (decoder.type == 0x69 || decoder.type == 0x6B) return std::make_unique<MpegSound>();
        if (const auto setup = aac_setup(decoder.own)) return std::make_unique<AacFrames>(*setup);
        return nullptr;
    }
    if (is_one_of({".mp3"})) return std::make_unique<MpegSound>();
    if (is_one_of({"samr", "sawb"})) return std::make_unique<AmrFrames>(codec == "sawb");
    if (is_one_of({"ac-3"})) return std::make_unique<Ac3Frames>();
    if (is_one_of({"jpeg", "mjpa", "mjpb", "MJPG"})) return std::make_unique<JpegFrames>();
    if (is_one_of({"apch", "apcn", "apcs", "apco", "ap4h", "ap4x"})) return std::make_unique<ProResFrames>();
    if (is_one_of({"s263", "h263", "H263"})) return std::make_unique<BaselinePictures>();
    if (is_one_of({"mp4v"})) return std::make_unique<VisualObjects>();
    return nullptr;
}

}  // namespace dredger::repairing
