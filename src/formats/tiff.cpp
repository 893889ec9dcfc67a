// TIFF 6.0, its wider form ("The BigTIFF File Format", Aware Systems), and the raw pictures of cameras that are built
// on it (DNG 1.6, and directories of the same shape); Fujifilm's raw pictures, whose header tells where three parts
// lie; and Canon's earlier ones ("The Canon RAW (CRW) File Format"), a heap with its directory at the end.
#include <algorithm>
#include <fmt/format.h>
#include <optional>
#include <set>

#include "base/checked.h"
#include "formats/exif.h"
#include "formats/families.h"
#include "formats/tiff_strip.h"

namespace dredger::formats {
namespace {

constexpr std::size_t kMaxDirectories = 256;
constexpr unsigned kMaxEntries = 1024;
constexpr std::uint64_t kMaxStrips = 4 << 20;
constexpr std::size_t kMaxChecked = 64 << 10;                 // strips that are unpacked
constexpr std::uint64_t kTelling = 2 << 10;                   // bytes of a strip that hardly make sense by chance
constexpr std::uint64_t kMaxValues = std::uint64_t{1} << 32;  // of one entry

enum Tag : std::uint16_t {
    kWidth = 256,
    kHeight = 257,
    kBitsPerSample = 258,
    kCompression = 259,
    kPhotometric = 262,
    kMake = 271,
    kStripOffsets = 273,
    kSamplesPerPixel = 277,
    kRowsPerStrip = 278,
    kStripLengths = 279,
    kPlanarConfiguration = 284,
    kTileWidth = 322,
    kTileHeight = 323,
    kSubDirectories = 330,
    kTileOffsets = 324,
    kTileLengths = 325,
    kJpegOffset = 513,
    kJpegLength = 514,
    kRawOffset = 0x0118,  // Panasonic
    kExifDirectory = 34665,
    kGpsDirectory = 34853,
    kInteroperability = 40965,
    kDngVersion = 50706,
};

class DirectoryWalk {
  public:
    explicit DirectoryWalk(Reader& content)
        : content_(content),
          big_(content.has(0, "MM")),
          wide_(content.has(0, "II+\0"sv) || content.has(0, "MM\0+"sv)) {}

    Measured run() {
        const std::uint64_t first = wide_ ? offset(8) : offset(4);
        if (first < 8 || !content_.holds(first, 14) || (wide_ && u32(4) != (big_ ? 0x80000U : 8U))) return nonsense();
        directories_ = {first};
        for (std::size_t d = 0; d < directories_.size(); ++d)
            if (!directory(directories_[d], d == 0)) return d == 0 ? nonsense() : finished(true);
        return pictures_ == 0 ? nonsense() : finished(false);
    }

  private:
    std::uint16_t u16(std::uint64_t at) { return big_ ? content_.u16be(at) : content_.u16le(at); }
    std::uint32_t u32(std::uint64_t at) { return big_ ? content_.u32be(at) : content_.u32le(at); }

    std::uint64_t u64(std::uint64_t at) { return big_ ? content_.u64be(at) : content_.u64le(at); }
    // Places, counts, and values within an entry are twice as wide in the wide form.
    std::uint64_t offset(std::uint64_t at) { return wide_ ? u64(at) : u32(at); }
    std::uint64_t inline_bytes() const { return wide_ ? 8 : 4; }

    Measured finished(bool damaged) {
        if (pictures_ == 0) return nonsense();
        // Nothing of what the others tell of is proven by it.
        constexpr std::uint64_t kHeader = 512;
        const std::uint64_t there = std::min(end_, content_.size());
        if (damaged) return broken_between(kHeader, there, "a directory is damaged", 0, finer());
        if (!content_.holds(0, end_)) return broken(content_.size(), "its end is missing", end_, finer());
        return by_strips();
    }

    // What is packed in strips shows whether it is right, and where not.
    Measured by_strips() {
        if (strips_.size() > kMaxChecked) strips_.clear();
        std::stable_sort(strips_.begin(), strips_.end(),
                         [](const TiffStrip& a, const TiffStrip& b) { return a.at < b.at; });
        const TiffStrip* wrong = nullptr;
        std::uint64_t summed = 0, unpacked = 0, sense = 0, right_behind = 0;
        for (const TiffStrip& strip : strips_) {
            const StripLook look = look_at(content_, strip);
            const bool is_right = look.found == StripLook::Found::summed || look.found == StripLook::Found::unpacked;
            if (look.found == StripLook::Found::wrong && wrong == nullptr) {
                wrong = &strip;
                sense = look.sense;
            }
            if (is_right) (look.found == StripLook::Found::summed ? summed : unpacked) += strip.length;
            if (is_right && wrong != nullptr) ++right_behind;
        }
        // One of a kind that is not packed as it is known here is no damage.
        if (wrong != nullptr && (summed + unpacked > 0 || sense >= kTelling)) {
            Measured found = broken_between(wrong->at, std::min(wrong->end(), wrong->at + sense + 1),
                                            "a strip of the picture does not unpack", end_, finer());
            found.has_its_end = right_behind > 0;
            return found;
        }
        if (wrong != nullptr || summed + unpacked == 0) return whole(end_, Proof::length, finer());
        const Proof proof = proof_without(end_ - std::min(end_, summed + unpacked), end_);
        return whole(end_, unpacked > 0 ? std::min(proof, Proof::structure) : proof, finer());
    }

    std::string_view finer() const {
        if (is_dng_) return "dng";
        if (content_.has(8, "CR\x02")) return "cr2";
        if (content_.has(0, "IIU")) return "rw2";
        if (content_.has(0, "IIR") || content_.has(0, "MMOR")) return "orf";
        if (!has_sub_directories_ && !is_raw_) return "tiff";
        if (make_.starts_with("NIKON")) return "nef";
        if (make_.starts_with("SONY")) return "arw";
        if (make_.starts_with("PENTAX") || make_.starts_with("RICOH")) return "pef";
        if (make_.starts_with("SAMSUNG")) return "srw";
        if (make_.starts_with("Hasselblad")) return "3fr";
        if (make_.starts_with("Phase One")) return "iiq";
        if (make_.starts_with("Leaf")) return "mos";
        if (make_.starts_with("EASTMAN KODAK") || make_.starts_with("Kodak")) return "dcr";
        return "tiff";
    }

    void reach(std::uint64_t at, std::uint64_t length) {
        constexpr std::uint64_t kMaxFile = std::uint64_t{1} << 48;
        end_ = std::max(end_, std::min(at, kMaxFile) + std::min(length, kMaxFile));
    }

    // The n-th number of an entry's values.
    std::uint64_t value(std::uint64_t values, unsigned type, std::uint64_t n) {
        return type == 3 ? u16(values + 2 * n) : type >= 16 ? u64(values + 8 * n) : u32(values + 4 * n);
    }

    // 0 where that is more than can be.
    static std::uint64_t bytes_of_row(std::uint64_t width, std::uint64_t bits, std::uint64_t samples) {
        const auto of_pixel = checked_mul(bits, samples);
        const auto of_row = of_pixel ? checked_mul(*of_pixel, width) : std::nullopt;
        return of_row ? divide_up(*of_row, 8) : 0;
    }

    bool directory(std::uint64_t at, bool is_first) {
        static constexpr unsigned kSizes[] = {0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8, 4, 0, 0, 8, 8, 8};
        const std::uint64_t counter = wide_ ? 8 : 2, each = wide_ ? 20 : 12;
        const std::uint64_t count = wide_ ? u64(at) : u16(at);
        if (count == 0 || count > kMaxEntries || !content_.holds(at, counter + each * count)) return false;
        reach(at, counter + each * count + inline_bytes());
        struct List {
            std::uint64_t at = 0, count = 0;
            unsigned type = 0;
        };
        List offsets, lengths;
        std::uint64_t width = 0, height = 0, jpeg_at = 0, jpeg_length = 0;
        std::uint64_t bits = 1, samples = 1, rows = 0, planes = 1, tile_width = 0, tile_height = 0;
        std::uint32_t compression = 1;
        bool is_subsampled = false;
        unsigned before = 0;
        for (std::uint64_t i = 0; i < count; ++i) {
            const std::uint64_t entry = at + counter + each * i;
            const unsigned tag = u16(entry);
            const unsigned type = u16(entry + 2);
            const std::uint64_t values = offset(entry + 4);
            // Directories are sorted by tag; some writers get a few wrong.
            if (type >= std::size(kSizes) || kSizes[type] == 0 || values > kMaxValues ||
                (is_first && tag + 64 < before))
                return false;
            before = tag;
            const std::uint64_t length = values * kSizes[type];
            const std::uint64_t here = entry + 4 + inline_bytes();
            const std::uint64_t place = length > inline_bytes() ? offset(here) : here;
            if (length > inline_bytes()) reach(place, length);
            const auto number = [&] { return value(place, type, 0); };
            switch (tag) {
                case kWidth: width = number(); break;
                case kHeight: height = number(); break;
                case kPhotometric:
                    is_subsampled = number() == 6;
                    break;  // colours may be stored for several points at once
                case kBitsPerSample: bits = number(); break;
                case kSamplesPerPixel: samples = number(); break;
                case kRowsPerStrip: rows = number(); break;
                case kPlanarConfiguration: planes = number(); break;
                case kTileWidth: tile_width = number(); break;
                case kTileHeight: tile_height = number(); break;
                case kCompression:
                    compression = static_cast<std::uint32_t>(number());
                    is_raw_ = is_raw_ || number() == 34713 || number() == 32767 || number() == 65535;
                    break;
                case kMake: make_ = content_.text(place, std::min<std::size_t>(values, 16)); break;
                case kStripOffsets:
                case kTileOffsets: offsets = {place, values, type}; break;
                case kStripLengths:
                case kTileLengths: lengths = {place, values, type}; break;
                case kJpegOffset: jpeg_at = number(); break;
                case kJpegLength: jpeg_length = number(); break;
                case kRawOffset:
                    if (content_.has(0, "IIU")) {
                        reach(number(), 0);
                        ++pictures_;
                    }
                    break;
                case kDngVersion: is_dng_ = true; break;
                case kSubDirectories: has_sub_directories_ = true; [[fallthrough]];
                case kExifDirectory:
                case kGpsDirectory:
                case kInteroperability:
                    for (std::uint64_t n = 0; n < std::min<std::uint64_t>(values, 16); ++n)
                        follow(value(place, type, n));
                    break;
                default: break;
            }
        }
        if (jpeg_at != 0 && jpeg_length != 0) {
            reach(jpeg_at, jpeg_length);
            ++pictures_;
        }
        const auto exists = [&](const List& list) { return content_.holds(list.at, list.count * kSizes[list.type]); };
        if (offsets.count > 0 && offsets.count == lengths.count && offsets.count <= kMaxStrips && exists(offsets) &&
            exists(lengths)) {
            const bool is_tiled = tile_width > 0;
            const std::uint64_t in_one = is_tiled ? tile_height : rows == 0 ? height : std::min(rows, height);
            // Planes follow each other, each in strips of its own.
            const std::uint64_t in_plane = in_one == 0 ? 0 : divide_up(height, in_one);
            const std::uint64_t row =
                is_subsampled ? 0 : bytes_of_row(is_tiled ? tile_width : width, bits, planes == 2 ? 1 : samples);
            for (std::uint64_t n = 0; n < offsets.count; ++n) {
                const std::uint64_t at_n = value(offsets.at, offsets.type, n);
                const std::uint64_t length_n = value(lengths.at, lengths.type, n);
                reach(at_n, length_n);
                if (compression == 1 || strips_.size() > kMaxChecked) continue;
                const std::uint64_t above = in_plane == 0 ? 0 : n % in_plane * in_one;
                const std::uint64_t here = is_tiled ? in_one : std::min(in_one, height - std::min(height, above));
                strips_.push_back({at_n, length_n, compression, checked_mul(row, here).value_or(0)});
            }
            if (width > 0 && height > 0) ++pictures_;
        }
        // Panasonic's directories are one alone.
        const std::uint64_t next = content_.has(0, "IIU") ? 0 : offset(at + counter + each * count);
        if (next != 0 && (is_first || chain_.contains(at))) {
            chain_.insert(next);
            follow(next);
        }
        return true;
    }

    void follow(std::uint64_t at) {
        if (at < 8 || !content_.holds(at, 6) || directories_.size() >= kMaxDirectories) return;
        if (std::find(directories_.begin(), directories_.end(), at) == directories_.end()) directories_.push_back(at);
    }

    Reader& content_;
    bool big_, wide_;
    std::vector<std::uint64_t> directories_;
    std::set<std::uint64_t> chain_;  // directories that another one names as the next
    std::string make_;
    std::uint64_t end_ = 8;
    unsigned pictures_ = 0;
    std::vector<TiffStrip> strips_;  // that are packed
    bool is_dng_ = false, is_raw_ = false, has_sub_directories_ = false;
};

Measured measure_tiff(Reader& content) { return DirectoryWalk(content).run(); }

// Where directories begin in [from, to), by what most of them name first: the kind of picture, or its width.
std::vector<std::uint64_t> directories_in(Reader& content, std::uint64_t from, std::uint64_t to) {
    constexpr std::size_t kMost = 64;
    constexpr std::string_view kLittle[] = {"\xFE\0\4\0\1\0\0\0"sv, "\0\1\3\0\1\0\0\0"sv, "\0\1\4\0\1\0\0\0"sv};
    constexpr std::string_view kBig[] = {"\0\xFE\0\4\0\0\0\1"sv, "\1\0\0\3\0\0\0\1"sv, "\1\0\0\4\0\0\0\1"sv};
    const bool is_big = content.has(0, "MM");
    const auto u16 = [&](std::uint64_t at) { return is_big ? content.u16be(at) : content.u16le(at); };
    const auto is_directory = [&](std::uint64_t at) {
        const unsigned count = u16(at);
        unsigned before = 0;
        for (unsigned i = 0; i < count && content.holds(at, 2 + 12 * (i + 1)); ++i) {
            const unsigned tag = u16(at + 2 + 12 * i), type = u16(at + 4 + 12 * i);
            if (tag < before || type == 0 || type > 13) return false;
            before = tag;
        }
        return count > 2;
    };
    std::vector<std::uint64_t> places;
    for (const std::string_view mark : is_big ? kBig : kLittle)
        for (auto place = content.find(mark, from + 2, to); place && places.size() < kMost;
             place = content.find(mark, *place + 1, to))
            if (is_directory(*place - 2)) places.push_back(*place - 2);
    return places;
}

// How much is foreign in front of the first directory, where it does not stand at the place that the header tells.
std::vector<std::uint64_t> gaps_of_tiff(Reader& content, const Measured&) {
    constexpr std::uint64_t kFurthest = 16 << 20, kSector = 512;
    if (!content.has(0, "II*\0"sv) && !content.has(0, "MM\0*"sv)) return {};
    const std::uint64_t first = content.has(0, "MM") ? content.u32be(4) : content.u32le(4);
    std::vector<std::uint64_t> gaps;
    if (first < kSector || !content.holds(first, kSector)) return gaps;
    for (const std::uint64_t place : directories_in(content, first, std::min(content.size(), first + kFurthest)))
        if (place > first && (place - first) % kSector == 0) gaps.push_back(place - first);
    std::sort(gaps.begin(), gaps.end());
    return gaps;
}

Description describe_tiff(Reader& content, std::uint64_t) {
    Description said;
    describe_exif(content, 0, said);
    title_from_camera(said);
    return said;
}

Measured measure_raf(Reader& content) {
    std::uint64_t end = 0;
    for (const std::uint64_t part : {84U, 92U, 100U}) {  // the JPEG, the directory of the sensor data, the sensor data
        const std::uint64_t at = content.u32be(part);
        const std::uint64_t length = content.u32be(part + 4);
        if (at < 108 && length != 0) return nonsense();
        end = std::max(end, at + length);
    }
    if (!content.has(content.u32be(84), "\xFF\xD8\xFF")) return nonsense();
    return content.holds(0, end) ? whole(end, Proof::length) : broken(content.size(), "its end is missing", end);
}

Description describe_raf(Reader& content, std::uint64_t) {
    Description said;
    const std::uint64_t jpeg = content.u32be(84);
    if (content.has(jpeg + 6, std::string_view("Exif\0", 5))) describe_exif(content, jpeg + 12, said);
    title_from_camera(said);
    return said;
}

// The heap ends with the place of its directory, which stands right before: where a number points back to such a one,
// it ends.
Measured measure_crw(Reader& content) {
    constexpr std::uint64_t kEntry = 10, kMaxHeapEntries = 64, kMaxFile = 64 << 20;
    if (!content.has(0, "II")) return nonsense();
    const std::uint64_t heap = content.u32le(2), limit = std::min(content.size(), kMaxFile);
    if (heap < 14 || heap > 512) return nonsense();
    const auto is_directory = [&](std::uint64_t at, std::uint64_t count) {
        for (std::uint64_t i = 0; i < count; ++i) {
            const std::uint64_t entry = heap + at + 2 + kEntry * i;
            const bool is_within = (content.u16le(entry) & 0x4000U) != 0;  // the value stands in the entry
            if (!is_within && std::uint64_t{content.u32le(entry + 2)} + content.u32le(entry + 6) > at) return false;
        }
        return true;
    };
    std::uint64_t at = heap;   // behind the number
    std::uint32_t number = 0;  // the last four bytes
    std::optional<std::uint64_t> end;
    while (at < limit && !end) {
        const auto here = content.some(at);
        if (here.empty()) break;
        for (const std::byte b : std::vector<std::byte>(here.begin(), here.end())) {
            number = number >> 8 | std::to_integer<std::uint32_t>(b) << 24;
            const std::uint64_t behind = ++at - 4 - heap;  // the directory, in the heap
            if (at < heap + 4 || number >= behind || behind - number < 2 + kEntry ||
                behind - number > 2 + kEntry * kMaxHeapEntries || (behind - number - 2) % kEntry != 0)
                continue;
            const std::uint64_t count = content.u16le(heap + number);
            if (count != (behind - number - 2) / kEntry || !is_directory(number, count)) continue;
            end = at;
            break;
        }
    }
    if (end) return whole(*end, Proof::length);
    return broken(std::min<std::uint64_t>(content.size(), 512), "its directory is missing");
}

constexpr std::string_view kTiffEnding = "the furthest value, strip or tile";
constexpr std::string_view kTiffChecked =
    "the directories; strips and tiles that are packed by Deflate, LZW, PackBits, LZMA or Zstandard";

// What the maker in its directories shows.
Format told_by_tiff(std::string_view name, std::vector<std::string_view> extensions = {}) {
    Format format;
    format.name = name;
    format.kind = Kind::picture;
    format.extensions = extensions.empty() ? std::vector{name} : std::move(extensions);
    format.signatures = {{{0, "II*\0"sv}}, {{0, "MM\0*"sv}}};
    format.told_by = "tiff";
    return format;
}

}  // namespace

const std::vector<Format>& tiff() {
    static const std::vector<Format> family = {
        {.name = "cr2",
         .kind = Kind::picture,
         .extensions = {"cr2"},
         .signatures = {{{0, "II*\0"sv}, {8, "CR\x02"sv}}},
         .measure = measure_tiff,
         .describe = describe_tiff,
         .ending = kTiffEnding,
         .checked = kTiffChecked},
        {.name = "orf",
         .kind = Kind::picture,
         .extensions = {"orf"},
         .signatures = {{{0, "IIRO"sv}}, {{0, "IIRS"sv}}, {{0, "MMOR"sv}}},
         .measure = measure_tiff,
         .describe = describe_tiff,
         .ending = kTiffEnding,
         .checked = kTiffChecked},
        {.name = "rw2",
         .kind = Kind::picture,
         .extensions = {"rw2"},
         .signatures = {{{0, "IIU\0"sv}}},
         .measure = measure_tiff,
         .describe = describe_tiff,
         .ending = kTiffEnding,
         .checked = kTiffChecked},
        {.name = "tiff",
         .kind = Kind::picture,
         .extensions = {"tif", "tiff", "sr2", "nrw"},
         .signatures = {{{0, "II*\0"sv}}, {{0, "MM\0*"sv}}, {{0, "II+\0"sv}}, {{0, "MM\0+"sv}}},
         .measure = measure_tiff,
         .gaps = gaps_of_tiff,
         .describe = describe_tiff,
         .ending = kTiffEnding,
         .checked = kTiffChecked},
        told_by_tiff("dng"),
        told_by_tiff("nef"),
        {.name = "arw",
         .kind = Kind::picture,
         .extensions = {"arw"},
         .signatures = {{{0, "II*\0"sv}}},
         .told_by = "tiff"},
        told_by_tiff("pef"),
        told_by_tiff("srw"),
        told_by_tiff("3fr"),
        told_by_tiff("iiq"),
        told_by_tiff("mos"),
        told_by_tiff("dcr", {"dcr", "kdc"}),
        {.name = "crw",
         .kind = Kind::picture,
         .extensions = {"crw"},
         .signatures = {{{0, "II"sv}, {6, "HEAPCCDR"sv}}, {{0, "MM"sv}, {6, "HEAPCCDR"sv}}},
         .measure = measure_crw,
         .ending = "the directory of its heap",
         .checked = "the directory"},
        {.name = "raf",
         .kind = Kind::picture,
         .extensions = {"raf"},
         .signatures = {{{0, "FUJIFILMCCD-RAW"sv}}},
         .measure = measure_raf,
         .describe = describe_raf,
         .ending = "the last of its three parts",
         .checked = "where the preview begins"},
    };
    return family;
}

}  // namespace dredger::formats
