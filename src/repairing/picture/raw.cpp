// TIFF, the raw pictures of cameras, most of which are built on it, and HEIC: a lost head is made anew when the
// directory that it pointed to is found; what is missing behind the end stands as zeros, so that the rest opens; and
// the JPEG that cameras put beside the sensor's data is saved.
#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"
#include "repairing/picture/jpeg_header.h"
#include "repairing/picture/pictures_within.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kHead = 8;               // bytes: byte order, mark, place of the first directory (TIFF 6.0, 2)
constexpr std::uint64_t kMostMissing = 1 << 30;  // bytes
constexpr unsigned kLeastEntries = 6, kMostEntries = 200;

// What stands between the order of bytes and the place of the first directory.
std::string mark_of(std::string_view extension, bool big) {
    const auto in_order = [&](std::string_view little) {
        return big ? std::string(little.rbegin(), little.rend()) : std::string(little);
    };
    if (extension == "orf") return in_order("RO"sv);
    if (extension == "rw2") return in_order("U\0"sv);
    return in_order("*\0"sv);
}

// Whether a directory of a picture stands here: its entries are sorted, and tell of width and height (TIFF 6.0, 2).
bool is_directory(Reader& content, std::uint64_t at, bool big) {
    const auto u16 = [&](std::uint64_t from) -> unsigned { return big ? content.u16be(from) : content.u16le(from); };
    const unsigned count = u16(at);
    if (count < kLeastEntries || count > kMostEntries || !content.holds(at, 2 + 12 * count + 4)) return false;
    unsigned before = 0;
    bool has_width = false, has_height = false;
    for (unsigned i = 0; i < count; ++i) {
        const std::uint64_t entry = at + 2 + 12 * std::uint64_t{i};
        const unsigned tag = u16(entry), type = u16(entry + 2);
        if (tag <= before || type == 0 || type > 13) return false;
        has_width = has_width || tag == 256;
        has_height = has_height || tag == 257;
        before = tag;
    }
    return has_width && has_height;
}

class RawMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        const std::string extension = extension_of(file_.name);
        const Format* named = format_with_extension(extension);
        const Format* format = format_in_head();
        done_.unit = "bytes";
        if (format == nullptr) {
            done_.format = named == nullptr ? "tiff" : named->name;
            return with_new_head(extension);
        }
        const Measured found = measured(file_, format->name, bench_);
        done_.format = found.format.empty() ? format->name : found.format;
        done_.kept = done_.of = content_.size();
        if (shows_no_damage(found)) return as_it_is(file_, bench_, std::move(done_));
        if (found.is_whole() && file_.holes.empty()) {
            done_.what.push_back(
                fmt::format("{} bytes that are not the picture's stand behind it", content_.size() - found.length));
            return as_it_is(file_, bench_, std::move(done_));
        }
        if (!found.is_file()) return with_new_head(extension);
        return padded(found);
    }

  private:
    const Format* format_in_head() {
        std::string head = content_.text(0, 64 << 10);
        const Format* format = format_with_head(ByteView(std::as_bytes(std::span(head))));
        if (format != nullptr) format = measurer_of(*format);
        return format != nullptr && mender_of(format->name) == &raw_mender() ? format : nullptr;
    }

    Result<Mended> padded(const Measured& found) {
        const std::uint64_t size = content_.size();
        const std::uint64_t missing = found.expected > size ? found.expected - size : 0;
        if (missing > kMostMissing) return beyond("next to nothing of it is there");
        std::uint64_t lost = 0;
        for (const Extent& hole : file_.holes) lost += hole.length;
        done_.of = size + missing;
        done_.kept = size - lost;
        if (missing > 0) done_.what.push_back(fmt::format("its last {} bytes are lost and stand as zeros", missing));
        if (lost > 0) done_.what.push_back(fmt::format("{} bytes of it are lost and stand as zeros", lost));
        if (missing == 0 && lost == 0) {
            done_.kept = found.sure;
            done_.what.emplace_back("it is left as it is: " + std::string(found.trouble));
        }
        DREDGER_TRY(Output output, bench_.output());
        output.add(*file_.content, 0, size);
        for (std::uint64_t filled = 0; filled < missing;) {
            const std::string zeros(static_cast<std::size_t>(std::min<std::uint64_t>(missing - filled, 1 << 20)), '\0');
            output.add(zeros);
            filled += zeros.size();
        }
        done_.outcome = Outcome::partly;
        DREDGER_CHECK(save_preview());
        return finished(std::move(output), std::move(done_));
    }

    // The first bytes are lost: the first directory that stands is the one that they pointed to.
    Result<Mended> with_new_head(const std::string& extension) {
        for (const bool is_big : {false, true}) {
            const auto at = first_directory(is_big);
            if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            if (!at || *at > 0xFFFFFFFF) continue;
            DREDGER_TRY(Output output, bench_.output());
            output.add((is_big ? "MM" : "II") + mark_of(extension, is_big));
            output.add(is_big ? big32(*at) : little32(*at));
            if (content_.size() > kHead) output.add(*file_.content, kHead, content_.size() - kHead);
            DREDGER_CHECK(output.finish());
            const Damaged made{output.content(), file_.name, file_.holes};
            const Measured found = measured(made, "tiff", bench_);
            if (!found.is_file()) continue;
            // That the directory stands right behind the head shows that no more than that was lost.
            const bool is_whole = found.is_whole() && *at == kHead && !file_.touches_hole(kHead, content_.size());
            done_.what.emplace_back("its first bytes were made anew");
            done_.of = std::max(found.expected, content_.size());
            done_.kept = is_whole ? done_.of : std::min(content_.size(), found.sure) - kHead;
            done_.outcome = is_whole ? Outcome::mended : Outcome::partly;
            if (!is_whole) {
                done_.what.emplace_back(found.is_whole() ? "what else was lost with them does not show"
                                                         : "some of what its directories tell of is lost");
                DREDGER_CHECK(save_preview());
            }
            done_.result = std::move(output);
            return std::move(done_);
        }
        return beyond("none of its directories is to be found");
    }

    std::optional<std::uint64_t> first_directory(bool big) {
        std::uint64_t at = kHead;
        while (content_.holds(at, 8)) {
            if (bench_.should_stop()) return std::nullopt;
            const std::string here = content_.text(at, 1 << 20);
            if (here.size() < 8) return std::nullopt;
            for (std::size_t i = 0; i + 4 <= here.size(); ++i) {
                const auto u16 = [&](std::size_t from) {
                    const unsigned first = static_cast<unsigned char>(here[from]);
                    const unsigned second = static_cast<unsigned char>(here[from + 1]);
                    return big ? first << 8 | second : second << 8 | first;
                };
                const unsigned count = u16(i), tag = u16(i + 2);
                if (count < kLeastEntries || count > kMostEntries || tag == 0 || tag > 257) continue;
                if (is_directory(content_, at + i, big)) return at + i;
            }
            at += here.size() - 3;
        }
        return std::nullopt;
    }

    Result<Mended> beyond(std::string_view why) {
        done_.outcome = Outcome::beyond;
        done_.kept = done_.of = 0;
        done_.what.emplace_back(why);
        DREDGER_CHECK(save_preview());
        return std::move(done_);
    }

    // The largest whole JPEG within it.
    Result<void> save_preview() {
        constexpr std::uint64_t kLeast = 4096;  // bytes
        Extent largest{0, 0};
        for (const Extent& picture : pictures_in(file_, bench_, "jpeg", kLeast)) {
            Reader there = content_.within(picture.offset);
            // The sensor's data may be a lossless JPEG, which no viewer shows.
            if (picture.length > largest.length && read_jpeg_header(there).frame) largest = picture;
        }
        if (largest.length == 0) return {};
        DREDGER_TRY(Output output, bench_.output());
        output.add(*file_.content, largest.offset, largest.length);
        DREDGER_CHECK(output.finish());
        done_.beside.push_back({" (preview).jpg", std::move(output)});
        return {};
    }
};

}  // namespace

const Mender& raw_mender() {
    static const Mender mender = {"TIFF, raw pictures, HEIC",
                                  {"tiff", "dng", "cr2", "nef", "arw", "orf", "rw2", "pef", "srw", "3fr", "iiq", "mos",
                                   "dcr", "raf", "cr3", "heic", "avif"},
                                  "head, end, preview",
                                  nullptr,
                                  [](const Damaged& file, Workbench& bench) { return RawMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
