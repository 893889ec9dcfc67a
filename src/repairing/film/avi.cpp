// AVI (Microsoft RIFF, "AVI RIFF File Reference", and OpenDML AVI File Format Extensions 1.02): its chunks are found
// one behind the other, whatever its lists say of their sizes, and get a header that counts them and an index.
#include <boost/endian/conversion.hpp>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/film/data_window.h"
#include "repairing/film/sample_search.h"
#include "repairing/number_bytes.h"

namespace dredger::repairing {
namespace {

using namespace std::string_literals;
using namespace std::string_view_literals;

constexpr std::uint64_t kLargestChunk = 64 << 20;      // bytes
constexpr std::uint64_t kLargestPart = 1'900'000'000;  // bytes of a RIFF that every player takes
constexpr std::size_t kMostChunks = 16 << 20;
constexpr unsigned kMostStreams = 16;
constexpr std::uint32_t kKeyFrame = 0x10;

std::string chunk(std::string_view name, const std::string& holds) {
    return fmt::format("{}{}{}{}", name, little32(holds.size()), holds, std::string(holds.size() % 2, '\0'));
}
std::string list(std::string_view name, const std::string& holds) { return chunk("LIST", std::string(name) + holds); }
std::uint32_t number_in(const std::string& bytes, std::size_t at) {
    if (at + 4 > bytes.size()) return 0;
    return boost::endian::load_little_u32(reinterpret_cast<const unsigned char*>(bytes.data()) + at);
}

// A stream's header list, `strl`: what stays of it when it is written anew.
struct Stream {
    std::string header;  // strh
    std::string rest;    // strf, strd, strn: whole chunks
    bool is_video() const { return header.starts_with("vids"); }
    std::string codec() const { return header.size() >= 8 ? header.substr(4, 4) : ""; }
    std::uint32_t sample_size() const { return number_in(header, 44); }
};

struct AviHeader {
    std::string main;  // avih
    std::vector<Stream> streams;
    bool can_be_used() const { return main.size() >= 40 && !streams.empty(); }
};

AviHeader read_header(Reader& content) {
    AviHeader header;
    const auto found = content.find("hdrlavih"sv, 0, std::min<std::uint64_t>(content.size(), 1 << 20));
    if (!found || *found < 8) return header;
    const std::uint64_t end = std::min(content.size(), *found + content.u32le(*found - 4));
    const auto each = [&](std::uint64_t from, std::uint64_t to, const auto& visit) {
        for (std::uint64_t at = from; at + 8 <= to && !content.budget().is_spent();) {
            const std::uint64_t length = content.u32le(at + 4);
            if (length > to - at - 8) return;
            visit(content.text(at, 4), at + 8, length);
            at += 8 + length + length % 2;
        }
    };
    each(*found + 4, end, [&](const std::string& name, std::uint64_t at, std::uint64_t length) {
        if (name == "avih") header.main = content.text(at, static_cast<std::size_t>(length));
        if (name != "LIST" || !content.has(at, "strl") || header.streams.size() >= kMostStreams) return;
        std::vector<std::string> parts;
        std::string own;
        each(at + 4, at + length, [&](const std::string& part, std::uint64_t part_at, std::uint64_t part_length) {
            const std::string bytes =
                content.text(part_at, static_cast<std::size_t>(std::min<std::uint64_t>(part_length, 1 << 20)));
            if (part == "strh") own = bytes;
            if (part == "strf" || part == "strd" || part == "strn") parts.push_back(chunk(part, bytes));
        });
        if (own.size() >= 48 && !parts.empty())
            header.streams.push_back({own, fmt::format("{}", fmt::join(parts, ""))});
    });
    return header;
}

struct Chunk {
    std::uint64_t at = 0;  // of what it holds
    std::uint32_t size = 0;
    std::array<char, 4> name{};
    unsigned stream = 0;
    bool is_key = true;
    std::uint64_t end() const { return at + size + size % 2; }
};

// The data, chunk by chunk.
class ChunkWalk {
  public:
    ChunkWalk(Reader& content, const Damaged& file) : content_(content), file_(file) {}

    void run(std::uint64_t at, const std::function<bool()>& should_stop) {
        while (content_.holds(at, 8) && chunks.size() < kMostChunks && !content_.budget().is_spent()) {
            if (content_.has(at, "idx1"sv)) {
                has_index = true;
                return;
            }
            if (const auto next = pass(at)) {
                at = *next;
                continue;
            }
            if (content_.size() - at <= 8) return;
            ++damaged_places;
            const std::uint64_t from = at;
            do {
                ++at;
                if (at % 65536 == 0 && should_stop()) return;
            } while (content_.holds(at, 8) && !content_.budget().is_spent() &&
                     !(looks_like_chunk(at) && is_confirmed(at)));
            lost += at - from;
        }
    }

    std::vector<Chunk> chunks;
    std::size_t damaged_places = 0;
    std::uint64_t lost = 0;  // bytes that belong to no chunk
    bool has_index = false;
    bool is_cut = false;  // the last chunk reaches behind the end

  private:
    // Behind what stands at `at`, or in what of it more stands; none where it is no part of a film's data.
    std::optional<std::uint64_t> pass(std::uint64_t at) {
        const std::uint64_t length = content_.u32le(at + 4);
        const bool fits = content_.holds(at + 8, length);
        if (content_.has(at, "LIST"sv) && (content_.has(at + 8, "rec "sv) || content_.has(at + 8, "movi"sv)))
            return at + 12;
        if (content_.has(at, "RIFF"sv) && content_.has(at + 8, "AVIX"sv)) return at + 12;
        if (content_.has(at, "JUNK"sv) && fits) return at + 8 + length + length % 2;
        if (content_.has(at, "ix"sv) && fits) return at + 8 + length + length % 2;
        if (!looks_like_chunk(at)) return std::nullopt;
        if (!fits) {
            is_cut = is_cut || length < kLargestChunk;
            return content_.size() - at < kLargestChunk && !may_go_on(at) ? std::optional(content_.size())
                                                                          : std::nullopt;
        }
        const std::uint64_t end = at + 8 + length + length % 2;
        if (!leads_on(end)) return std::nullopt;
        Chunk found{at + 8, static_cast<std::uint32_t>(length)};
        const std::string name = content_.text(at, 4);
        std::copy(name.begin(), name.end(), found.name.begin());
        found.stream = static_cast<unsigned>(name[0] - '0') * 10 + static_cast<unsigned>(name[1] - '0');
        if (file_.touches_hole(found.at, found.size))
            lost += length;
        else
            chunks.push_back(found);
        return end;
    }

    bool looks_like_chunk(std::uint64_t at) {
        const std::string name = content_.text(at, 4);
        constexpr std::string_view kKinds = "dc db wb tx pc";
        if (name.size() < 4 || name[0] < '0' || name[0] > '1' || name[1] < '0' || name[1] > '9') return false;
        return kKinds.find(name.substr(2)) != kKinds.npos && name[2] != ' ' && name[3] != ' ' &&
               content_.u32le(at + 4) <= kLargestChunk;
    }

    bool leads_on(std::uint64_t at) {
        if (!content_.holds(at, 8)) return true;
        for (const std::string_view name : {"idx1"sv, "LIST"sv, "JUNK"sv, "ix0"sv, "ix1"sv, "RIFF"sv})
            if (content_.has(at, name)) return true;
        return looks_like_chunk(at);
    }

    bool is_confirmed(std::uint64_t at) {
        const std::uint64_t length = content_.u32le(at + 4);
        return content_.holds(at + 8, length) && leads_on(at + 8 + length + length % 2);
    }

    // Whether another chunk stands further on, so that it is this one's length that is wrong.
    bool may_go_on(std::uint64_t at) {
        for (std::uint64_t next = at + 8; content_.holds(next, 8) && !content_.budget().is_spent(); ++next)
            if (looks_like_chunk(next) && is_confirmed(next)) return true;
        return false;
    }

    Reader& content_;
    const Damaged& file_;
};

class AviMending : FileMending {
  public:
    AviMending(const Damaged& file, Workbench& bench) : FileMending(file, bench), walk_(content_, file) {}

    Result<Mended> run() {
        done_.format = "avi";
        done_.unit = "frames";
        const auto data = find_data();
        walk_.run(data, [&] { return bench_.should_stop(); });
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (!find_header()) return std::move(done_);
        look_at_pictures();
        for (const Chunk& chunk : walk_.chunks) done_.kept += header_.streams[chunk.stream].is_video() ? 1 : 0;
        const Measured found = measured(file_, "avi", bench_);
        const bool is_whole = found.is_whole() && found.length == content_.size() && walk_.damaged_places == 0 &&
                              walk_.has_index && reference_.empty() && damaged_pictures_ == 0 && file_.holes.empty() &&
                              has_right_index();
        done_.of = std::max<std::uint64_t>(done_.kept, frames_told());
        if (is_whole) done_.of = done_.kept;
        if (done_.kept == 0 && walk_.chunks.empty()) {
            done_.what.emplace_back("none of its frames can be had");
            return std::move(done_);
        }
        done_.outcome = is_whole ? Outcome::whole
                        : walk_.damaged_places == 0 && damaged_pictures_ == 0 && !walk_.is_cut && file_.holes.empty()
                            ? Outcome::mended
                            : Outcome::partly;
        if (!is_whole) tell();
        DREDGER_TRY(Output output, bench_.output());
        if (is_whole)
            output.add(*file_.content, 0, content_.size());
        else
            write(output);
        return finished(std::move(output), std::move(done_));
    }

  private:
    std::uint64_t find_data() {
        std::uint64_t at = 0;
        while (const auto found = content_.find("movi"sv, at, std::min<std::uint64_t>(content_.size(), 1 << 20))) {
            if (*found >= 8 && content_.has(*found - 8, "LIST"sv)) return *found + 4;
            at = *found + 1;
        }
        return 0;
    }

    // The film's own, or that of a reference whose streams have the same numbers.
    bool find_header() {
        const auto fits = [&](const AviHeader& header) {
            return header.can_be_used() &&
                   std::all_of(walk_.chunks.begin(), walk_.chunks.end(), [&](const Chunk& chunk) {
                       return chunk.stream < header.streams.size() &&
                              header.streams[chunk.stream].is_video() == (chunk.name[2] == 'd');
                   });
        };
        header_ = read_header(content_);
        if (header_.can_be_used()) {
            // Chunks of streams that it does not have are none.
            std::erase_if(walk_.chunks, [&](const Chunk& chunk) { return chunk.stream >= header_.streams.size(); });
            return true;
        }
        for (const Reference& reference : bench_.references()) {
            Budget budget = bench_.budget();
            Reader theirs(*reference.content, budget);
            AviHeader header = read_header(theirs);
            if (!fits(header)) continue;
            header_ = std::move(header);
            reference_ = reference.name;
            return true;
        }
        done_.outcome = walk_.chunks.empty() ? Outcome::beyond : without_reference();
        done_.what.emplace_back(done_.outcome == Outcome::wants_reference
                                    ? "its header is lost: another film of the same camera and settings would help"
                                    : "its header is lost, and no reference goes with its data");
        return false;
    }

    // Pictures that show by themselves whether they are whole, and with which of them decoding can begin.
    void look_at_pictures() {
        DataWindow window(*file_.content, content_.size());
        FilmTrack jpeg;
        jpeg.codec = "jpeg";
        FilmTrack visual;
        visual.codec = "mp4v";
        const auto jpegs = syntax_of(jpeg);
        const auto objects = syntax_of(visual);
        std::erase_if(walk_.chunks, [&](Chunk& chunk) {
            if (!header_.streams[chunk.stream].is_video() || chunk.size == 0) return false;
            const auto bytes = window.from(chunk.at, chunk.size);
            if (bytes.size() > 3 && bytes[0] == 0xFF && bytes[1] == 0xD8) {
                const std::size_t length = jpegs->length(bytes);
                // Some cameras fill the rest of a chunk.
                if (length > 0 && length <= chunk.size) return false;
                ++damaged_pictures_;
                return true;
            }
            if (header_.streams[chunk.stream].codec().find("JPG") != std::string::npos ||
                is_jpeg_stream(chunk.stream)) {
                ++damaged_pictures_;
                return true;
            }
            if (has_sector_of_zeros(bytes) && !is_plain_video(chunk.stream)) {
                ++damaged_pictures_;
                return true;
            }
            if (objects->begins(bytes)) chunk.is_key = objects->is_sync(bytes);
            return false;
        });
    }

    // The description of the format tells the codec, too (BITMAPINFOHEADER, biCompression).
    std::string compression_of(unsigned stream) const {
        const std::string& rest = header_.streams[stream].rest;
        return rest.starts_with("strf") && rest.size() >= 28 ? rest.substr(24, 4) : "";
    }
    bool is_jpeg_stream(unsigned stream) const { return compression_of(stream) == "MJPG"; }
    // Pictures that are not packed.
    bool is_plain_video(unsigned stream) const {
        const std::string compression = compression_of(stream);
        return compression.empty() || compression == "\0\0\0\0"s || compression == "YUY2" || compression == "UYVY";
    }

    bool has_right_index() {
        const Chunk& last = walk_.chunks.back();
        const auto index = content_.find("idx1"sv, last.end(), std::min(content_.size(), last.end() + 64));
        if (!index) return false;
        const std::uint64_t entries = content_.u32le(*index + 4) / 16;
        for (std::uint64_t i = 0; i < std::min<std::uint64_t>(entries, walk_.chunks.size()); ++i)
            if (!content_.has(*index + 8 + 16 * i,
                              std::string_view(walk_.chunks[static_cast<std::size_t>(i)].name.data(), 4)))
                return false;
        return entries >= walk_.chunks.size();
    }

    std::uint64_t frames_told() const {
        constexpr std::uint64_t kSensible = 10'000'000;
        for (const Stream& stream : header_.streams)
            if (stream.is_video() && reference_.empty() && number_in(stream.header, 32) < kSensible)
                return number_in(stream.header, 32);
        return 0;
    }

    void tell() {
        if (!reference_.empty()) done_.what.push_back("its header was taken from " + reference_);
        done_.what.emplace_back("its sizes and its index were made anew");
        if (walk_.damaged_places > 0)
            done_.what.push_back(fmt::format(
                "at {} {} bytes belong to no whole chunk",
                walk_.damaged_places == 1 ? "one place" : fmt::format("{} places", walk_.damaged_places), walk_.lost));
        if (damaged_pictures_ > 0)
            done_.what.push_back(fmt::format("{} frames are damaged and left out", damaged_pictures_));
        if (walk_.is_cut) done_.what.emplace_back("its end is missing");
    }

    std::string header_list() const {
        std::string main = header_.main;
        std::vector<std::uint64_t> bytes(header_.streams.size()), counts(header_.streams.size());
        for (const Chunk& chunk : walk_.chunks) {
            bytes[chunk.stream] += chunk.size;
            ++counts[chunk.stream];
        }
        std::string streams;
        for (std::size_t i = 0; i < header_.streams.size(); ++i) {
            const Stream& stream = header_.streams[i];
            std::string header = stream.header;
            const std::uint64_t length = stream.sample_size() > 0 ? bytes[i] / stream.sample_size() : counts[i];
            header.replace(32, 4, little32(length));
            if (stream.is_video()) main.replace(16, 4, little32(counts[i]));
            streams += list("strl", chunk("strh", header) + stream.rest);
        }
        constexpr std::uint32_t kHasIndex = 0x10;
        main.replace(12, 4, little32(number_in(main, 12) | kHasIndex));
        return list("hdrl", chunk("avih", main) + streams);
    }

    // A first part that every player reads, and more of them where it is too long for one.
    void write(Output& output) {
        std::size_t next = 0;
        for (unsigned part = 0; next < walk_.chunks.size() || part == 0; ++part) {
            const std::uint64_t start = output.size();
            output.add("RIFF\0\0\0\0"s + (part == 0 ? "AVI " : "AVIX"));
            if (part == 0) output.add(header_list());
            const std::uint64_t data = output.size();
            output.add("LIST\0\0\0\0movi"s);
            std::string index;
            for (; next < walk_.chunks.size() && output.size() - start < kLargestPart; ++next) {
                const Chunk& from = walk_.chunks[next];
                const std::string name(from.name.begin(), from.name.end());
                const bool is_key = !header_.streams[from.stream].is_video() || from.is_key;
                index +=
                    name + little32(is_key ? kKeyFrame : 0) + little32(output.size() - data - 8) + little32(from.size);
                output.add(name + little32(from.size));
                output.add(*file_.content, from.at, from.size);
                if (from.size % 2 != 0) output.add("\0"sv);
            }
            output.replace(data + 4, little32(output.size() - data - 8));
            if (part == 0) output.add(chunk("idx1", index));
            output.replace(start + 4, little32(output.size() - start - 8));
        }
    }

    ChunkWalk walk_;
    AviHeader header_;
    std::string reference_;
    std::size_t damaged_pictures_ = 0;
};

unsigned bid_for_avi(const Damaged& file) {
    Budget budget;
    Reader content(*file.content, budget);
    const std::uint64_t near = std::min<std::uint64_t>(content.size(), 1 << 20);
    unsigned bits = extension_of(file.name) == "avi" ? 1 : 0;
    for (const std::string_view name : {"hdrlavih"sv, "00dc"sv, "01wb"sv})
        if (content.find(name, 0, near)) bits += 20;
    return bits;
}

}  // namespace

const Mender& avi_mender() {
    static const Mender mender = {
        "AVI", {"avi"}, "header, index, sizes", bid_for_avi, [](const Damaged& file, Workbench& bench) {
            return AviMending(file, bench).run();
        }};
    return mender;
}

}  // namespace dredger::repairing
