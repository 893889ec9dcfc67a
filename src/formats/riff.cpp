// Files of chunks: RIFF (Multimedia Programming Interface and Data Specifications 1.0) with WAV, AVI (also OpenDML) and
// WebP, RF64/BW64 (EBU Tech 3306), and AIFF (Apple Audio Interchange File Format 1.3), the same the other way round;
// and others of both kinds (EA IFF 85), of which nothing but their chunks is looked at.
#include <algorithm>
#include <fmt/format.h>

#include "formats/bytes_of_content.h"
#include "formats/families.h"
#include "formats/vp8.h"
#include "formats/vp8l.h"

namespace dredger::formats {
namespace {

bool is_name(Reader& content, std::uint64_t at) {
    for (unsigned i = 0; i < 4; ++i)
        if (const unsigned c = content.u8(at + i); c < 0x20 || c > 0x7E) return false;
    return true;
}

// The chunk whose name stands at `at`, and as much as there is of it.
Part chunk_at(Reader& content, std::uint64_t at, std::uint64_t length, bool fits) {
    const std::uint64_t there = std::min(length, content.size() - std::min(at + 8, content.size()));
    return {"chunk",
            content.text(at, 4),
            {{at + 8, there}},
            Packing::none,
            length,
            fits ? Part::Check::none : Part::Check::wrong};
}

struct Chunks {
    std::uint64_t end = 0;   // behind the last good chunk
    bool complete = false;   // the chunks fill their container
    std::uint64_t data = 0;  // where the one that was asked for begins
    std::uint64_t data_size = 0;
};

// Walks the chunks of [at, end). `wanted` is noted; a chunk of 64 bits has its length in `long_data`.
Chunks walk(Reader& content, std::uint64_t at, std::uint64_t end, std::string_view wanted, bool big, PartTeller& parts,
            std::uint64_t long_data = 0) {
    Chunks chunks;
    chunks.end = at;
    while (at + 8 <= end) {
        if (!content.holds(at, 8) || !is_name(content, at)) return chunks;
        std::uint64_t length = big ? content.u32be(at + 4) : content.u32le(at + 4);
        if (length == 0xFFFFFFFF && long_data != 0) length = long_data;
        if (content.has(at, wanted) && chunks.data == 0) {
            chunks.data = at + 8;
            chunks.data_size = length;
        }
        const bool fits = length <= end - at - 8 && content.holds(at + 8, length);
        if (parts.is_wanted()) parts.tell(chunk_at(content, at, length, fits));
        if (!fits) return chunks;
        at += 8 + length;
        chunks.end = at;
        if (length % 2 != 0 && at < end) ++at;
    }
    chunks.complete = true;
    chunks.end = end;
    return chunks;
}

Measured take_wav_apart(Reader& content, const PartSink& sink) {
    PartTeller parts(sink);
    std::uint64_t size = content.u32le(4);
    std::uint64_t long_data = 0;
    if (!content.has(0, "RIFF") && content.has(12, "ds64")) {
        size = content.u64le(20);
        long_data = content.u64le(28);
    }
    if (!is_name(content, 12) || size > std::uint64_t{1} << 50) return nonsense();
    // A recorder that was switched off has not written its sizes yet.
    const bool unfinished = size <= 36 || (size == 0xFFFFFFFF && long_data == 0);
    const std::uint64_t end = unfinished ? content.size() : 8 + size;
    const Chunks chunks = walk(content, 12, end, "data", false, parts, long_data);
    const auto format = content.find("fmt ", 12, std::min<std::uint64_t>(content.size(), 4096));
    if (chunks.data == 0 || !format || content.u16le(*format + 10) == 0 || content.u32le(*format + 12) == 0)
        return nonsense();
    if (unfinished) return open_ended(std::min(chunks.data + chunks.data_size, content.size()), Proof::length);
    if (chunks.complete && content.holds(0, end)) return whole(end, Proof::length);
    return broken(std::min(std::max(chunks.end, chunks.data), content.size()), "its end is missing", end);
}

Description describe_wav(Reader& content, std::uint64_t length) {
    Description said;
    const auto format = content.find("fmt ", 12, std::min<std::uint64_t>(length, 4096));
    if (!format || content.u32le(*format + 16) == 0) return said;
    said.facts.push_back({"duration", fmt::format("{} s", length / content.u32le(*format + 16))});
    return said;
}

// One RIFF of an AVI: its chunks, and those within the list of frames.
Chunks walk_avi(Reader& content, std::uint64_t start, bool& has_frames, PartTeller& parts) {
    const std::uint64_t end = start + 8 + content.u32le(start + 4);
    std::uint64_t at = start + 12;
    Chunks chunks;
    chunks.end = at;
    while (at + 8 <= end) {
        if (!content.holds(at, 8) || !is_name(content, at)) return chunks;
        const std::uint64_t length = content.u32le(at + 4);
        if (length > end - at - 8) return chunks;
        if (content.has(at, "LIST") && content.has(at + 8, "movi")) {
            const Chunks frames = walk(content, at + 12, at + 8 + length, "00dc", false, parts);
            has_frames = has_frames || frames.end > at + 12;
            chunks.end = frames.end;
            if (!frames.complete) return chunks;
        }
        const bool fits = content.holds(at + 8, length);
        const bool is_frames = content.has(at, "LIST") && content.has(at + 8, "movi");  // told one by one
        if (parts.is_wanted() && !is_frames) parts.tell(chunk_at(content, at, length, fits));
        if (!fits) return chunks;
        at += 8 + length + length % 2;
        chunks.end = std::min(at, end);
    }
    chunks.complete = content.holds(0, end);
    chunks.end = end;
    return chunks;
}

Measured take_avi_apart(Reader& content, const PartSink& sink) {
    PartTeller parts(sink);
    if (!content.has(12, "LIST") || !content.has(20, "hdrl")) return nonsense();
    bool has_frames = false;
    std::uint64_t start = 0;
    for (;;) {
        const Chunks chunks = walk_avi(content, start, has_frames, parts);
        if (!has_frames) return nonsense();
        if (!chunks.complete)
            return broken(std::min(chunks.end, content.size()), "the frames stop making sense",
                          start + 8 + content.u32le(start + 4));
        const std::uint64_t next = chunks.end + chunks.end % 2;
        if (!content.has(next, "RIFF") || !content.has(next + 8, "AVIX")) return whole(chunks.end, Proof::chain);
        start = next;
    }
}

Description describe_avi(Reader& content, std::uint64_t) {
    Description said;
    if (content.has(24, "avih")) {
        const std::uint64_t each = content.u32le(32);  // microseconds a frame
        said.facts.push_back({"pixels", fmt::format("{} x {}", content.u32le(64), content.u32le(68))});
        said.facts.push_back({"duration", fmt::format("{} s", each * content.u32le(48) / 1'000'000)});
    }
    return said;
}

// The first sector of packed pictures that holds nothing packed; profiles and words about them may be plain.
std::optional<std::uint64_t> plain_sector_of_pictures(Reader& content, std::uint64_t end) {
    for (std::uint64_t at = 12; at + 8 <= end;) {
        const std::uint64_t length = content.u32le(at + 4);
        const bool is_packed = content.has(at, "VP8 ") || content.has(at, "VP8L") || content.has(at, "ANMF");
        if (is_packed)
            if (const auto plain = content.first_plain_sector(at + 8, std::min(end, at + 8 + length))) return plain;
        at += 8 + length + length % 2;
    }
    return std::nullopt;
}

// The bytes of a chunk, unless there are too many to be followed.
std::string packed_picture(Reader& content, std::uint64_t at, std::uint64_t length) {
    constexpr std::uint64_t kMost = 64 << 20;
    std::string bytes;
    if (length > kMost || !content.holds(at, length)) return bytes;
    bytes.reserve(static_cast<std::size_t>(length));
    each_span(content, at, length, [&](std::span<const std::byte> here) {
        bytes.append(reinterpret_cast<const char*>(here.data()), here.size());
    });
    return bytes;
}

// Whether each packed picture in [at, end) takes as many bytes as its chunk has. Nothing where none can be followed.
// Where it is so, little may be wrong near its end; codes of lossless ones find back behind foreign bytes, so that
// these may come out even.
std::optional<bool> pictures_fill(Reader& content, std::uint64_t at, std::uint64_t end) {
    constexpr std::uint64_t kFrameHeader = 16;
    std::optional<bool> all;
    while (at + 8 <= end && content.ok()) {
        const std::uint64_t length = content.u32le(at + 4);
        std::optional<bool> fills;
        if (content.has(at, "ANMF")) {
            fills = pictures_fill(content, at + 8 + kFrameHeader, std::min(end, at + 8 + length));
        } else if (const bool lossy = content.has(at, "VP8 "); lossy || content.has(at, "VP8L")) {
            const std::string bytes = packed_picture(content, at + 8, length);
            const auto data = std::as_bytes(std::span(bytes));
            fills = lossy ? vp8_fills(data) : vp8l_fills(data);
        }
        if (fills) all = all.value_or(true) && *fills;
        at += 8 + length + length % 2;
    }
    return all;
}

Measured take_webp_apart(Reader& content, const PartSink& sink) {
    PartTeller parts(sink);
    const std::uint64_t end = 8 + std::uint64_t{content.u32le(4)};
    if (!content.has(12, "VP8") || end < 20 || end % 2 != 0) return nonsense();
    const bool lossy = content.has(15, " ");
    if (lossy && !content.has(23, "\x9D\x01\x2A")) return nonsense();
    if (content.has(15, "L") && content.u8(20) != 0x2F) return nonsense();
    // But for files with further chunks the picture fills the file.
    const bool extended = content.has(15, "X");
    const std::uint64_t picture = 20 + std::uint64_t{content.u32le(16)};
    if (!extended && picture + picture % 2 != end) return nonsense();
    const Chunks chunks = walk(content, 12, end, "VP8", false, parts);
    if (chunks.complete && content.holds(0, end)) {
        const auto fills = parts.is_wanted() ? std::nullopt : pictures_fill(content, 12, end);
        if (fills == false) return contradicted(512, end, "its picture does not end where its data does");
        if (const auto plain = plain_sector_of_pictures(content, end))
            return broken(*plain, "the picture data stops making sense", end);
        return whole(end, extended || (lossy && fills) ? Proof::chain : Proof::length);
    }
    return chunks.data != 0 && content.size() > 4096
               ? broken(std::min(std::max(chunks.end, chunks.data), content.size()), "its end is missing", end)
               : nonsense();
}

Measured take_aiff_apart(Reader& content, const PartSink& sink) {
    PartTeller parts(sink);
    const std::uint64_t end = 8 + std::uint64_t{content.u32be(4)};
    const Chunks chunks = walk(content, 12, end, "SSND", true, parts);
    if (chunks.data == 0 || !content.find("COMM", 12, std::min<std::uint64_t>(content.size(), 65536)))
        return nonsense();
    if (chunks.complete && content.holds(0, end)) return whole(end, Proof::length);
    return broken(std::min(std::max(chunks.end, chunks.data), content.size()), "its end is missing", end);
}

// Any other file of chunks: cursors, drawings, instruments.
Measured measure_chunks(Reader& content, bool big) {
    const std::uint64_t size = big ? content.u32be(4) : content.u32le(4);
    if (size < 12 || size > std::uint64_t{1} << 31 || !is_name(content, 12)) return nonsense();
    const std::uint64_t end = 8 + size;
    PartTeller nobody({});
    const Chunks chunks = walk(content, 12, end, "", big, nobody);
    if (chunks.complete && content.holds(0, end)) return whole(end, Proof::chain);
    constexpr std::uint64_t kLeast = 512;  // bytes of chunks that make a broken file worth it
    if (chunks.end < kLeast) return nonsense();
    return broken(std::min(chunks.end, content.size()), "its chunks don't fill it", end);
}

constexpr std::string_view kEnding = "the size in its header";

// `container`: RIFF, or FORM, the same the other way round; `forms`: what stands behind its size.
Format of_chunks(std::string_view name, Kind kind, std::vector<std::string_view> extensions, std::string_view container,
                 const std::vector<std::string_view>& forms) {
    Format format;
    format.name = name;
    format.kind = kind;
    format.extensions = std::move(extensions);
    for (const std::string_view form : forms) format.signatures.push_back({{0, container}, {8, form}});
    format.measure = [big = container == "FORM"](Reader& content) { return measure_chunks(content, big); };
    format.ending = kEnding;
    format.checked = "the chain of chunks";
    return format;
}

}  // namespace

const std::vector<Format>& riff() {
    static const std::vector<Format> family = {
        {.name = "wav",
         .kind = Kind::audio,
         .extensions = {"wav", "bwf"},
         .signatures = {{{0, "RIFF"sv}, {8, "WAVE"sv}}, {{0, "RF64"sv}, {8, "WAVE"sv}}, {{0, "BW64"sv}, {8, "WAVE"sv}}},
         .measure = measure_by<take_wav_apart>,
         .take_apart = take_wav_apart,
         .describe = describe_wav,
         .ending = kEnding,
         .checked = "the chain of chunks"},
        {.name = "avi",
         .kind = Kind::video,
         .extensions = {"avi", "divx"},
         .signatures = {{{0, "RIFF"sv}, {8, "AVI "sv}}},
         .measure = measure_by<take_avi_apart>,
         .take_apart = take_avi_apart,
         .describe = describe_avi,
         .ending = kEnding,
         .checked = "the chain of chunks, frame by frame"},
        {.name = "webp",
         .kind = Kind::picture,
         .extensions = {"webp"},
         .signatures = {{{0, "RIFF"sv}, {8, "WEBP"sv}}},
         .measure = measure_by<take_webp_apart>,
         .take_apart = take_webp_apart,
         .ending = kEnding,
         .checked = "that its picture fills it"},
        {.name = "aiff",
         .kind = Kind::audio,
         .extensions = {"aif", "aiff", "aifc"},
         .signatures = {{{0, "FORM"sv}, {8, "AIF"sv}}},
         .measure = measure_by<take_aiff_apart>,
         .take_apart = take_aiff_apart,
         .ending = kEnding,
         .checked = "the chain of chunks"},
        of_chunks("cdr", Kind::picture, {"cdr", "cdt"}, "RIFF", {"CDR", "cdr"}),
        of_chunks("cmx", Kind::picture, {"cmx"}, "RIFF", {"CMX1"}),
        of_chunks("ani", Kind::picture, {"ani"}, "RIFF", {"ACON"}),
        of_chunks("sf2", Kind::audio, {"sf2", "sf3"}, "RIFF", {"sfbk"}),
        of_chunks("dls", Kind::audio, {"dls"}, "RIFF", {"DLS "}),
        of_chunks("rmi", Kind::audio, {"rmi"}, "RIFF", {"RMID"}),
        of_chunks("ilbm", Kind::picture, {"iff", "lbm", "ilbm"}, "FORM", {"ILBM", "PBM "}),
        of_chunks("8svx", Kind::audio, {"8svx", "svx"}, "FORM", {"8SVX"}),
        of_chunks("lwo", Kind::picture, {"lwo"}, "FORM", {"LWO", "LWLO"}),
    };
    return family;
}

}  // namespace dredger::formats
