// Single packed streams: gzip (RFC 1952), bzip2, xz (The .xz File Format 1.2), Zstandard (RFC 8878). What comes out
// tells a packed tar from other content.
#include "base/text.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kLeastPacked = 2048;  // bytes that make sense and make a broken file worth it
constexpr std::uint64_t kUnlike = 1024;       // bytes within which it shows that what comes out is of another kind
constexpr std::uint64_t kBlockMark = 10;      // bytes of the header and the mark of the first block of bzip2

bool is_next_stream(Reader& content, Packing packing, std::uint64_t at) {
    switch (packing) {
        case Packing::gzip: return content.has(at, "\x1F\x8B\x08") && content.u8(at + 3) < 0x20;
        case Packing::bzip2: return content.has(at, "BZh") && content.has(at + 4, "1AY&SY");
        case Packing::xz: return content.has(at, "\xFD\x37zXZ\0"sv);
        default: return content.has(at, "\x28\xB5\x2F\xFD");
    }
}

// Streams of one file may follow each other. Their checksums are part of them.
Measured measure_streams(Reader& content, Packing packing, std::string_view name, std::string_view tar_name) {
    std::uint64_t at = 0;
    std::uint64_t came = 0;
    std::string_view format = name;
    do {
        const Unpacked unpacked = unpack(content, packing, at, content.size() - at, at == 0 ? 512 : 0);
        if (at == 0 && std::string_view(unpacked.head).substr(0, 262).ends_with("ustar")) format = tar_name;
        came += unpacked.bytes;
        if (!unpacked.ended()) {
            // The checksum stands at the end: all of it may be wrong.
            // Nothing comes out before the end of a block, which may be all there is.
            if (packing == Packing::bzip2 && came == 0 && unpacked.packed >= kLeastPacked)
                return lone_head(kBlockMark, unpacked.packed, "its first block can't be unpacked");
            if (at + unpacked.packed < kLeastPacked || came == 0) return nonsense();
            // Where something else comes out it was wrong already.
            const std::uint64_t wrong = std::min(unpacked.packed, unpacked.alike + kUnlike);
            return broken_between(at + unpacked.alike, at + wrong, "it can't be unpacked any further", 0, format);
        }
        if (unpacked.packed == 0) break;
        at += unpacked.packed;
    } while (is_next_stream(content, packing, at));
    return at == 0 || came == 0 ? nonsense() : whole(at, Proof::checksums, format);
}

Measured measure_gz(Reader& content) {
    if (content.u8(3) > 31) return nonsense();
    return measure_streams(content, Packing::gzip, "gz", "tar.gz");
}
Measured measure_bz2(Reader& content) { return measure_streams(content, Packing::bzip2, "bz2", "tar.bz2"); }
Measured measure_xz(Reader& content) { return measure_streams(content, Packing::xz, "xz", "tar.xz"); }
Measured measure_zst(Reader& content) {
    Measured found = measure_streams(content, Packing::zstd, "zst", "tar.zst");
    // The checksum of a frame is optional.
    if (found.is_whole() && (content.u8(4) & 4U) == 0) found.proof = Proof::chain;
    return found;
}

Description describe_gz(Reader& content, std::uint64_t) {
    Description said;
    if ((content.u8(3) & 8U) == 0) return said;
    const std::uint64_t at = 10 + ((content.u8(3) & 4U) != 0 ? 2 + std::uint64_t{content.u16le(10)} : 0);
    const std::string name = content.text(at, 200);
    if (const auto end = name.find('\0'); end != std::string::npos) said.title = printable(name.substr(0, end));
    if (const std::uint32_t seconds = content.u32le(4); seconds != 0)
        said.date = FileTime{seconds, 0, FileTime::Clock::utc};
    return said;
}

}  // namespace

const std::vector<Format>& packed() {
    constexpr std::string_view kEnding = "the end of the packed stream";
    constexpr std::string_view kChecked = "all of it is unpacked, and its checksum";
    static const std::vector<std::vector<Signature>> gzip = {{{0, "\x1F\x8B\x08"sv}}};
    static const std::vector<std::vector<Signature>> bzip2 = {{{0, "BZh"sv}, {4, "1AY&SY"sv}}};
    static const std::vector<std::vector<Signature>> xz = {{{0, "\xFD\x37zXZ\0"sv}}};
    static const std::vector<std::vector<Signature>> zstd = {{{0, "\x28\xB5\x2F\xFD"sv}}};
    static const std::vector<Format> family = {
        {.name = "gz",
         .kind = Kind::archive,
         .extensions = {"gz"},
         .signatures = gzip,
         .measure = measure_gz,
         .describe = describe_gz,
         .ending = kEnding,
         .checked = kChecked},
        {.name = "bz2",
         .kind = Kind::archive,
         .extensions = {"bz2"},
         .signatures = bzip2,
         .measure = measure_bz2,
         .ending = kEnding,
         .checked = kChecked},
        {.name = "xz",
         .kind = Kind::archive,
         .extensions = {"xz"},
         .signatures = xz,
         .measure = measure_xz,
         .ending = kEnding,
         .checked = kChecked},
        {.name = "zst",
         .kind = Kind::archive,
         .extensions = {"zst"},
         .signatures = zstd,
         .measure = measure_zst,
         .ending = kEnding,
         .checked = kChecked},
        {.name = "tar.gz", .kind = Kind::archive, .extensions = {"tar.gz", "tgz"}, .signatures = gzip, .told_by = "gz"},
        {.name = "tar.bz2",
         .kind = Kind::archive,
         .extensions = {"tar.bz2", "tbz2"},
         .signatures = bzip2,
         .told_by = "bz2"},
        {.name = "tar.xz", .kind = Kind::archive, .extensions = {"tar.xz", "txz"}, .signatures = xz, .told_by = "xz"},
        {.name = "tar.zst", .kind = Kind::archive, .extensions = {"tar.zst"}, .signatures = zstd, .told_by = "zst"},
    };
    return family;
}

}  // namespace dredger::formats
