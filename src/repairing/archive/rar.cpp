// RAR 5 ("RAR 5.0 archive format", rarlab.com/technote.htm): blocks whose headers agree with their checksums are kept,
// with the data that belongs to them. What is packed in them can't be unpacked here; stored data is checked.
#include <algorithm>
#include <fmt/format.h>

#include "base/digest.h"
#include "base/text.h"
#include "formats/format.h"
#include "formats/rar_block.h"
#include "formats/unpacking.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"
#include "repairing/sense.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;
using formats::rar_block_at;
using formats::RarBlock;

constexpr std::string_view kMark = "Rar!\x1A\x07\x01\0"sv;
constexpr std::size_t kMostTold = 20;  // entries that are told one by one

// Of a block that a mender may believe.
std::optional<RarBlock> block_at(Reader& content, std::uint64_t at) {
    constexpr std::uint64_t kLeast = 7;                          // bytes: checksum, size, type, flags
    constexpr std::uint64_t kMostData = std::uint64_t{1} << 50;  // bytes
    if (!content.holds(at, kLeast)) return std::nullopt;
    const auto block = rar_block_at(content, at);
    const bool is_known = block && block->type >= RarBlock::kMain && block->type <= RarBlock::kEnd;
    return is_known && block->data <= kMostData ? block : std::nullopt;
}
std::uint64_t end_of(const RarBlock& block) { return block.data_at() + block.data; }

std::string made_block(std::string_view fields) {
    const std::string header = static_cast<char>(fields.size()) + std::string(fields);
    return little32(crc32(std::as_bytes(std::span(header)))) + header;
}

class RarMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "rar";
        done_.unit = "entries";
        if (content_.has(0, "Rar!\x1A\x07\0"sv)) {
            done_.what.emplace_back("it is of the format before RAR 5, which is not mended");
            return std::move(done_);
        }
        DREDGER_TRY(Output output, bench_.output());
        output.add(kMark);
        const bool has_mark = content_.has(0, kMark);
        std::uint64_t at = has_mark ? kMark.size() : 0;
        while (content_.holds(at, 1)) {
            if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            const auto block = block_at(content_, at);
            if (!block) {
                const std::uint64_t next = next_block(at + 1, content_.size());
                lost_ += next - at;
                at = next;
                continue;
            }
            if (block->type == RarBlock::kEncryption) {
                done_.what.emplace_back("its headers are encrypted: nothing of it can be told apart");
                return std::move(done_);
            }
            at = take(*block, output);
            if (block->type == RarBlock::kEnd) break;
        }
        const bool is_whole = has_mark && has_main_ && has_end_ && lost_ == 0 && done_.kept == done_.of;
        if (is_whole) {
            if (has_packed_)
                done_.what.emplace_back("what is packed in it is not unpacked here: only what tells of it was checked");
            return as_it_is(file_, bench_, std::move(done_));
        }
        if (done_.of == 0) {
            done_.what.emplace_back("none of its headers stands");
            return std::move(done_);
        }
        if (!has_end_) output.add(made_block("\5\4\0"sv));
        tell();
        done_.outcome = done_.kept == done_.of && lost_ == 0 ? Outcome::mended : Outcome::partly;
        if (done_.kept == 0) done_.outcome = Outcome::beyond;
        if (done_.outcome == Outcome::beyond) return std::move(done_);
        return finished(std::move(output), std::move(done_));
    }

  private:
    // Behind what was taken of it.
    std::uint64_t take(const RarBlock& block, Output& output) {
        const std::uint64_t data = block.data_at();
        if (block.type == RarBlock::kMain) has_main_ = true;
        if (block.type == RarBlock::kEnd) has_end_ = true;
        if (block.type != RarBlock::kMain && !has_main_) {
            output.add(made_block("\1\0\0"sv));
            has_main_ = true;
        }
        if (block.type == RarBlock::kFile) ++done_.of;
        // Where bytes are missing within its data the next block stands too early.
        std::uint64_t end = std::min(end_of(block), content_.size());
        const bool is_followed = end == content_.size() || block_at(content_, end);
        if (!is_followed) end = next_block(data, end);
        if (end < end_of(block)) {
            lose(block, fmt::format("only {} of its {} packed bytes are there", end - data, block.data));
            if (block.type != RarBlock::kFile) lost_ += end - block.at;
            return end;
        }
        output.add(*file_.content, block.at, end_of(block) - block.at);
        const bool is_packed = block.type == RarBlock::kFile && !block.crc && block.data > 0;
        has_packed_ = has_packed_ || is_packed;
        const bool is_wrong = file_.touches_hole(data, block.data) ||
                              (block.crc && formats::crc32_of(content_, data, block.data) != *block.crc) ||
                              (is_packed && first_run_of_zeros(content_, data, end_of(block)));
        if (is_wrong)
            lose(block, "some of its bytes are wrong");
        else if (block.is_solid && (lost_ > 0 || told_ > 0))
            lose(block, "it can't be unpacked without what is lost in front of it");
        else if (block.type == RarBlock::kFile)
            ++done_.kept;
        return end;
    }

    void lose(const RarBlock& block, const std::string& why) {
        if (block.type != RarBlock::kFile) return;
        if (++told_ <= kMostTold) done_.what.push_back(printable(block.name) + " is damaged: " + why);
    }

    void tell() {
        if (told_ > kMostTold) done_.what.push_back(fmt::format("{} more entries are damaged", told_ - kMostTold));
        if (lost_ > 0) done_.what.push_back(fmt::format("{} bytes belong to no entry and are left out", lost_));
        if (!has_end_) done_.what.emplace_back("its end was made anew");
        if (done_.what.empty()) done_.what.emplace_back("its beginning was made anew");
    }

    // The first block whose header agrees with its checksum.
    std::uint64_t next_block(std::uint64_t at, std::uint64_t limit) {
        for (; at < limit && content_.ok() && !bench_.should_stop(); ++at)
            if (block_at(content_, at)) return at;
        return limit;
    }

    bool has_main_ = false, has_end_ = false, has_packed_ = false;
    std::uint64_t lost_ = 0;
    std::size_t told_ = 0;
};

}  // namespace

const Mender& rar_mender() {
    static const Mender mender = {"RAR 5",
                                  {"rar"},
                                  "beginning, blocks, end",
                                  [](const Damaged& file) {
                                      Budget budget;
                                      Reader content(*file.content, budget);
                                      const auto mark = content.find(kMark, 0, content.size());
                                      return mark && block_at(content, *mark + kMark.size()) ? 80U : 0U;
                                  },
                                  [](const Damaged& file, Workbench& bench) { return RarMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
