// JPEG: ITU-T T.81 (ISO/IEC 10918-1), JFIF 1.02, Exif 2.32, and CIPA DC-007 for several pictures in one file.
#include <fmt/format.h>
#include <set>

#include "formats/exif.h"
#include "formats/families.h"
#include "formats/jpeg_scan.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kLeastPicture = 2048;   // bytes of sensible picture data that make a broken file worth it
constexpr std::uint64_t kMaxBlocks = 24 << 20;  // whose coefficients are remembered: 192 MiB
constexpr unsigned kMaxSegments = 100'000;

class SegmentWalk {
  public:
    SegmentWalk(Reader& content, const PartSink& parts, bool has_index = true)
        : content_(content), parts_(parts), has_index_(has_index) {}

    Measured run() {
        if (content_.u8(0) != 0xFF || content_.u8(1) != 0xD8 || content_.u8(2) != 0xFF) return nonsense();
        std::uint64_t at = 2;
        for (unsigned n = 0; n < kMaxSegments; ++n) {
            if (content_.u8(at) != 0xFF) return stopped(at, "a marker is missing");
            while (content_.u8(at + 1) == 0xFF) ++at;  // filling
            const unsigned marker = content_.u8(at + 1);
            if (marker == 0xD9) return pictures_ > 0 ? finished(at + 2) : nonsense();
            if (marker == 0x01 || (marker >= 0xD0 && marker <= 0xD7)) {
                at += 2;
                continue;
            }
            const std::uint64_t length = content_.u16be(at + 2);
            if (marker < 0xC0 || length < 2 || !content_.holds(at, 2 + length))
                return stopped(at, "a segment is damaged");
            const bool is_right = segment(marker, at + 4, length - 2);
            if (parts_.is_wanted())
                parts_.tell({"segment",
                             fmt::format("{:02X}", marker),
                             {{at + 4, length - 2}},
                             Packing::none,
                             length - 2,
                             is_right ? Part::Check::none : Part::Check::wrong});
            if (!is_right) return stopped(at, "a segment is damaged");
            at += 2 + length;
            const bool is_foreign = (marker >= 0xE0 && marker <= 0xEF) || marker == 0xFE;  // to the picture
            unchecked_ += is_foreign ? length : 0;
            if (marker != 0xDA) continue;
            JpegScanResult scan = picture_data(at);
            if (const auto plain = content_.first_plain_sector(at, scan.end)) {
                // A sector of zeros or text is seldom packed. Where all of it decodes to its end it may be all the
                // same.
                if (scan.complete)
                    all_decoded_ = false;
                else
                    scan = {false, *plain, 0};
            }
            decoded_ += scan.end - std::min(at, scan.end);
            if (parts_.is_wanted())
                parts_.tell({"scan",
                             "",
                             {{at, scan.end - std::min(at, scan.end)}},
                             Packing::unknown,
                             0,
                             scan.complete ? Part::Check::right : Part::Check::wrong});
            at = scan.end;
            if (!scan.complete) return stopped(at, "the picture data stops making sense");
            ++pictures_;
        }
        return stopped(at, "it has too many segments");
    }

  private:
    Measured stopped(std::uint64_t at, std::string_view why) const {
        if (pictures_ == 0 && decoded_ < kLeastPicture) return nonsense();
        return broken(std::min(at, content_.size()), why);
    }

    // Several pictures in one file: their index tells how far the last one reaches.
    Measured finished(std::uint64_t end) {
        std::uint64_t last = end;
        for (const Extent& picture : further_) {
            if (!content_.holds(picture.offset, picture.length) || content_.u8(picture.offset) != 0xFF ||
                content_.u8(picture.offset + 1) != 0xD8)
                continue;
            last = std::max(last, picture.end());
            Reader there = content_.within(picture.offset);
            const Measured found = SegmentWalk(there, {}, false).run();
            if (!found.is_whole() || found.proof != Proof::checksums) unchecked_ += picture.length;
        }
        return whole(last, all_decoded_ ? proof_without(unchecked_, last) : Proof::chain);
    }

    bool segment(unsigned marker, std::uint64_t at, std::uint64_t length) {
        switch (marker) {
            case 0xC4: return huffman(at, length);
            case 0xDB: return length >= 65;
            case 0xDD: restart_interval_ = content_.u16be(at); return length == 2;
            case 0xDA: return scan_header(at, length);
            case 0xE2:
                if (has_index_ && content_.has(at, std::string_view("MPF\0", 4))) picture_index(at + 4, length - 4);
                return true;
            default: break;
        }
        const bool is_frame = marker >= 0xC0 && marker <= 0xCF && marker != 0xC8 && marker != 0xCC;
        return !is_frame || frame(marker, at, length);
    }

    bool huffman(std::uint64_t at, std::uint64_t length) {
        for (const std::uint64_t end = at + length; at < end;) {
            if (end - at < 17) return false;
            const unsigned which = content_.u8(at);
            std::array<std::uint8_t, 16> counts{};
            std::size_t total = 0;
            for (unsigned i = 0; i < 16; ++i) total += counts[i] = content_.u8(at + 1 + i);
            if ((which & 0xEFU) > 3 || total > 256 || end - at < 17 + total) return false;
            std::vector<std::uint8_t> symbols(total);
            for (std::size_t i = 0; i < total; ++i) symbols[i] = content_.u8(at + 17 + i);
            auto& tables = which >> 4 == 0 ? dc_ : ac_;
            if (!tables[which & 3U].define(counts, symbols)) return false;
            at += 17 + total;
        }
        return true;
    }

    bool frame(unsigned marker, std::uint64_t at, std::uint64_t length) {
        const unsigned height = content_.u16be(at + 1);
        const unsigned width = content_.u16be(at + 3);
        const unsigned count = content_.u8(at + 5);
        if (!components_.empty() || width == 0 || count == 0 || count > 4 || length != 6 + 3 * std::uint64_t{count})
            return false;
        progressive_ = marker == 0xC2;
        decodable_ = (marker <= 0xC2) && height != 0;
        unsigned most_across = 1;
        unsigned most_down = 1;
        for (unsigned i = 0; i < count; ++i) {
            JpegComponent c;
            c.id = content_.u8(at + 6 + 3 * std::uint64_t{i});
            c.across = content_.u8(at + 7 + 3 * std::uint64_t{i}) >> 4;
            c.down = content_.u8(at + 7 + 3 * std::uint64_t{i}) & 15U;
            if (c.across < 1 || c.across > 4 || c.down < 1 || c.down > 4) return false;
            most_across = std::max(most_across, c.across);
            most_down = std::max(most_down, c.down);
            components_.push_back(std::move(c));
        }
        const auto divided = [](unsigned a, unsigned b) { return (a + b - 1) / b; };
        mcus_across_ = divided(width, 8 * most_across);
        mcus_down_ = divided(height, 8 * most_down);
        std::uint64_t blocks = 0;
        for (JpegComponent& c : components_) {
            c.blocks_across = divided(divided(width * c.across, most_across), 8);
            c.blocks_down = divided(divided(height * c.down, most_down), 8);
            c.padded_across = mcus_across_ * c.across;
            blocks += std::uint64_t{c.padded_across} * mcus_down_ * c.down;
        }
        if (progressive_ && blocks > kMaxBlocks) decodable_ = false;
        if (progressive_ && decodable_)
            for (JpegComponent& c : components_) c.filled.resize(std::size_t{c.padded_across} * mcus_down_ * c.down);
        return true;
    }

    bool scan_header(std::uint64_t at, std::uint64_t length) {
        scan_ = {};
        const unsigned count = content_.u8(at);
        if (count < 1 || count > 4 || length != 4 + 2 * std::uint64_t{count}) return false;
        for (unsigned i = 0; i < count; ++i) {
            const unsigned id = content_.u8(at + 1 + 2 * std::uint64_t{i});
            const unsigned tables = content_.u8(at + 2 + 2 * std::uint64_t{i});
            const auto found = std::find_if(components_.begin(), components_.end(),
                                            [&](const JpegComponent& c) { return c.id == id; });
            if (found == components_.end()) return false;
            scan_.components.push_back(&*found);
            scan_.dc.push_back(&dc_[(tables >> 4) & 3U]);
            scan_.ac.push_back(&ac_[tables & 3U]);
        }
        scan_.first = content_.u8(at + 1 + 2 * std::uint64_t{count});
        scan_.last = content_.u8(at + 2 + 2 * std::uint64_t{count});
        scan_.high = content_.u8(at + 3 + 2 * std::uint64_t{count}) >> 4;
        scan_.low = content_.u8(at + 3 + 2 * std::uint64_t{count}) & 15U;
        scan_.progressive = progressive_;
        scan_.mcus_across = mcus_across_;
        scan_.mcus_down = mcus_down_;
        scan_.restart_interval = restart_interval_;
        return scan_.first <= scan_.last && scan_.last <= 63 && (scan_.first == 0 || count == 1);
    }

    JpegScanResult picture_data(std::uint64_t at) {
        bool decodable = decodable_;
        for (std::size_t c = 0; decodable && c < scan_.components.size(); ++c) {
            const bool wants_dc = !progressive_ || (scan_.first == 0 && scan_.high == 0);
            const bool wants_ac = !progressive_ || scan_.first > 0;
            if ((wants_dc && !scan_.dc[c]->is_defined()) || (wants_ac && !scan_.ac[c]->is_defined())) decodable = false;
        }
        if (decodable) return decode_jpeg_scan(content_, at, scan_);
        all_decoded_ = false;
        return skip_to_marker(at);
    }

    // Arithmetic coding, lossless and hierarchical frames: only the markers are looked at.
    JpegScanResult skip_to_marker(std::uint64_t at) {
        while (const auto mark = content_.find("\xFF", at, content_.size())) {
            if (!content_.holds(*mark + 1, 1)) break;
            const unsigned next = content_.u8(*mark + 1);
            if (next != 0 && next != 0xFF && !(next >= 0xD0 && next <= 0xD7)) return {true, *mark, 0};
            at = *mark + (next == 0xFF ? 1 : 2);
        }
        return {false, content_.size(), 0};
    }

    void picture_index(std::uint64_t at, std::uint64_t length) {
        const bool big = content_.has(at, "MM");
        const auto u16 = [&](std::uint64_t p) { return big ? content_.u16be(p) : content_.u16le(p); };
        const auto u32 = [&](std::uint64_t p) { return big ? content_.u32be(p) : content_.u32le(p); };
        const std::uint64_t directory = at + u32(at + 4);
        for (unsigned i = 0, count = std::min<unsigned>(u16(directory), 32); i < count; ++i) {
            const std::uint64_t entry = directory + 2 + 12 * std::uint64_t{i};
            if (entry + 12 > at + length || u16(entry) != 0xB002) continue;
            const std::uint64_t list = at + u32(entry + 8);
            for (unsigned n = 1; n < std::min<std::uint32_t>(u32(entry + 4) / 16, 64); ++n)
                further_.push_back({at + u32(list + 16 * std::uint64_t{n} + 8), u32(list + 16 * std::uint64_t{n} + 4)});
        }
    }

    Reader& content_;
    PartTeller parts_;
    std::array<JpegHuffman, 4> dc_, ac_;
    std::vector<JpegComponent> components_;
    JpegScanHeader scan_;
    std::vector<Extent> further_;
    unsigned mcus_across_ = 0, mcus_down_ = 0, restart_interval_ = 0, pictures_ = 0;
    std::uint64_t decoded_ = 0;    // bytes
    std::uint64_t unchecked_ = 0;  // bytes of what cameras and programs say of the picture
    bool has_index_;
    bool progressive_ = false, decodable_ = false, all_decoded_ = true;
};

Measured take_jpeg_apart(Reader& content, const PartSink& parts) { return SegmentWalk(content, parts).run(); }

unsigned bid_jpeg(ByteView head) {
    constexpr unsigned kMarkers = 24, kName = 32;
    if (!head.has(0, "\xFF\xD8\xFF")) return 0;
    return kMarkers + (head.has(6, "JFIF\0"sv) || head.has(6, "Exif\0"sv) ? kName : 0);
}

Description describe_jpeg(Reader& content, std::uint64_t length) {
    Description said;
    for (std::uint64_t at = 2; at + 4 < length && content.u8(at) == 0xFF;) {
        const unsigned marker = content.u8(at + 1);
        const std::uint64_t size = content.u16be(at + 2);
        if (marker == 0xDA || size < 2) break;
        if (marker == 0xE1 && content.has(at + 4, std::string_view("Exif\0", 5))) describe_exif(content, at + 10, said);
        if (marker >= 0xC0 && marker <= 0xCF && marker != 0xC4 && marker != 0xC8 && marker != 0xCC)
            said.facts.push_back({"pixels", fmt::format("{} x {}", content.u16be(at + 7), content.u16be(at + 5))});
        at += 2 + size;
    }
    title_from_camera(said);
    return said;
}

}  // namespace

const std::vector<Format>& jpeg() {
    static const std::vector<Format> family = {
        {.name = "jpeg",
         .kind = Kind::picture,
         .extensions = {"jpg", "jpeg", "jpe", "jfif", "thm", "mpo"},
         .signatures = {{{0, "\xFF\xD8\xFF"sv}}},
         .bid = bid_jpeg,
         .measure = measure_by<take_jpeg_apart>,
         .take_apart = take_jpeg_apart,
         .describe = describe_jpeg,
         .ending = "the end marker behind the last scan",
         .checked = "all picture data is decoded"},
    };
    return family;
}

}  // namespace dredger::formats
