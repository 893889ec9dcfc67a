#include "repairing/archive/tar.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/tar_header.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"

namespace dredger::repairing {
namespace {

using namespace std::string_literals;
using namespace std::string_view_literals;
using formats::tar_header_at;
using formats::TarHeader;

constexpr std::uint64_t kBlock = TarHeader::kBlock;
constexpr std::uint64_t kMark = 257;  // bytes from a header's start to "ustar"
constexpr std::size_t kMostTold = 8;  // members of which is told what they lack

class TarMending {
  public:
    TarMending(Reader& content, const TarContent& about, const std::function<void(std::string_view)>& write)
        : content_(content), about_(about), write_(write) {}

    TarMembers run(const std::function<bool()>& should_stop) {
        std::uint64_t at = 0;
        while (content_.holds(at, 1) && !should_stop()) {
            const auto header = tar_header_at(content_, at);
            if (header && !is_broken_within(at, at + kBlock)) {
                at = member(at, *header);
                continue;
            }
            preludes_.clear();
            if (content_.holds(at, kBlock) && content_.is_zeros(at, at + kBlock) &&
                !is_broken_within(at, at + kBlock)) {
                result_.has_end = true;
                at += kBlock;
                continue;
            }
            // Behind the end of an archive anything may follow.
            const std::uint64_t next = next_header(at + 1);
            if (!result_.has_end || next < content_.size()) result_.lost += next - at;
            at = next;
        }
        write_(std::string(2 * kBlock, '\0'));
        if (result_.lost > 0)
            result_.what.push_back(fmt::format("{} bytes belong to no member and are left out", result_.lost));
        if (told_ > kMostTold) result_.what.push_back(fmt::format("{} more are cut", told_ - kMostTold));
        if (!result_.has_end) result_.what.emplace_back("its end is missing");
        if (doubtful_ > 0)
            result_.what.push_back(fmt::format(
                "{} members behind the damage or next to it are there, and may be wrong in places", doubtful_));
        return std::move(result_);
    }

  private:
    // Behind what was taken.
    std::uint64_t member(std::uint64_t at, const TarHeader& header) {
        result_.has_end = false;
        const std::uint64_t from = at + kBlock;
        const std::uint64_t end = sound_end(from, header);
        const bool is_whole = end - from >= header.size;
        if (header.is_prelude()) {
            if (!is_whole) {
                preludes_.clear();
                result_.lost += end - at;
                return end;
            }
            preludes_.push_back({at, kBlock + header.room()});
            return from + header.room();
        }
        ++result_.of;
        for (const Extent& prelude : preludes_) copy(prelude.offset, prelude.length);
        preludes_.clear();
        if (is_whole) {
            const bool is_behind_damage = about_.is_doubtful && (result_.lost > 0 || told_ > 0);
            ++(is_behind_damage || !is_followed(from + header.room()) ? doubtful_ : result_.kept);
            copy(at, kBlock + header.size);
            fill(header.size);
            return std::min(content_.size(), from + header.room());
        }
        if (++told_ <= kMostTold)
            result_.what.push_back(fmt::format("only the first {} of {} bytes of {} are there", end - from, header.size,
                                               printable(header.name)));
        write_(with_size(content_.text(at, kBlock), end - from));
        copy(from, end - from);
        fill(end - from);
        return end;
    }

    // Up to where a member's content stands: all of it where a header or the end follows it, or something foreign; else
    // up to where bytes are missing, are not its own, or the next member begins.
    std::uint64_t sound_end(std::uint64_t from, const TarHeader& header) {
        const std::uint64_t end = from + header.size;
        std::uint64_t sound = std::min(end, content_.size());
        for (const std::uint64_t gap : about_.gaps)
            if (gap > from) sound = std::min(sound, gap);
        sound = first_hole(about_.holes, from, sound);
        if (sound < end) return sound;
        return is_followed(from + header.room()) ? end : std::min(end, next_header(from));
    }

    // Whether what can stand behind a member does.
    bool is_followed(std::uint64_t at) {
        return !content_.holds(at, 1) || tar_header_at(content_, at) ||
               content_.is_zeros(at, std::min(content_.size(), at + kBlock));
    }

    bool is_broken_within(std::uint64_t from, std::uint64_t to) const {
        return std::any_of(about_.gaps.begin(), about_.gaps.end(),
                           [&](std::uint64_t gap) { return gap > from && gap < to; }) ||
               std::any_of(about_.holes.begin(), about_.holes.end(),
                           [&](const Extent& hole) { return hole.offset < to && hole.end() > from; });
    }

    // The first header at or behind a place, by its mark; the end of the content where there is none.
    std::uint64_t next_header(std::uint64_t at) {
        for (std::uint64_t from = at + kMark; content_.ok();) {
            const auto mark = content_.find("ustar"sv, from, content_.size());
            if (!mark) break;
            if (tar_header_at(content_, *mark - kMark)) return *mark - kMark;
            from = *mark + 1;
        }
        return content_.size();
    }

    static std::string with_size(std::string header, std::uint64_t size) {
        header.replace(124, 12, fmt::format("{:011o}", size) + '\0');
        header.replace(148, 8, 8, ' ');
        unsigned sum = 0;
        for (const char c : header) sum += static_cast<unsigned char>(c);
        return header.replace(148, 8, fmt::format("{:06o}", sum) + "\0 "s);
    }

    void copy(std::uint64_t at, std::uint64_t length) {
        formats::each_span(content_, at, length, [&](std::span<const std::byte> bytes) {
            write_({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
        });
    }
    // The rest of the last block.
    void fill(std::uint64_t size) {
        write_(std::string(static_cast<std::size_t>((kBlock - size % kBlock) % kBlock), '\0'));
    }

    Reader& content_;
    const TarContent& about_;
    const std::function<void(std::string_view)>& write_;
    TarMembers result_;
    std::vector<Extent> preludes_;  // what tells of the next member
    std::uint64_t doubtful_ = 0;    // members that seem to be whole, behind a broken place or in front of one
    std::size_t told_ = 0;
};

class TarFileMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "tar";
        done_.unit = "entries";
        const Measured found = measured(file_, "tar", bench_);
        DREDGER_TRY(Output output, bench_.output());
        TarMembers members = mend_tar(
            content_, {{}, file_.holes}, [&](std::string_view bytes) { output.add(bytes); },
            [&] { return bench_.should_stop(); });
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        done_.kept = members.kept;
        done_.of = members.of;
        if (found.is_whole() && file_.holes.empty() && members.is_complete() && members.has_end)
            return as_it_is(file_, bench_, std::move(done_));
        done_.what = std::move(members.what);
        if (done_.what.empty()) done_.what.emplace_back("its end was made anew");
        if (members.of == 0) {
            done_.what = {"none of its headers stands"};
            return std::move(done_);
        }
        done_.outcome = members.is_complete() ? Outcome::mended : Outcome::partly;
        return finished(std::move(output), std::move(done_));
    }
};

}  // namespace

TarMembers mend_tar(Reader& content, const TarContent& about, const std::function<void(std::string_view)>& write,
                    const std::function<bool()>& should_stop) {
    return TarMending(content, about, write).run(should_stop);
}

const Mender& tar_mender() {
    static const Mender mender = {
        "tar",
        {"tar"},
        "headers, members, end",
        [](const Damaged& file) {
            Budget budget;
            Reader content(*file.content, budget);
            const auto mark = content.find("ustar"sv, kMark, content.size());
            return mark && tar_header_at(content, *mark - kMark) ? 50U : 0U;
        },
        [](const Damaged& file, Workbench& bench) { return TarFileMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
