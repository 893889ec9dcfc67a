// Compound files ([MS-CFB]), as older office programs write them: a lost header is made from the sectors themselves,
// and chains that lead out of the file end where it does.
#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <set>

#include "base/text.h"
#include "formats/compound_file.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"
#include "repairing/office/salvage.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::uint32_t kFree = 0xFFFFFFFF, kEndOfChain = 0xFFFFFFFE, kTableSector = 0xFFFFFFFD,
                        kListSector = 0xFFFFFFFC;
constexpr std::size_t kInHeader = 109;        // table sectors that the header itself lists
constexpr std::size_t kEntry = 128;           // bytes of an entry of the directory
constexpr std::uint64_t kSmallStream = 4096;  // bytes: shorter streams lie in sectors of 64
constexpr std::uint64_t kLargestFile = std::uint64_t{1} << 31;
constexpr std::string_view kRoot = "R\0o\0o\0t\0 \0E\0n\0t\0r\0y\0\0\0"sv;

// The sectors of a file whose header may be lost.
class Sectors {
  public:
    Sectors(Reader& content, std::size_t size) : content_(content), size_(size) {
        // With large sectors the header fills one, too.
        count_ = content.size() > size ? (content.size() - size + size - 1) / size : 0;
        find_tables();
    }

    std::size_t size() const { return size_; }
    std::uint64_t count() const { return count_; }
    std::uint64_t place(std::uint64_t sector) const { return (sector + 1) * size_; }
    const std::vector<std::uint32_t>& tables() const { return tables_; }

    std::uint32_t next(std::uint64_t sector) const {
        return sector < next_.size() ? next_[static_cast<std::size_t>(sector)] : kFree;
    }
    void set_next(std::size_t sector, std::uint32_t value) { next_[sector] = value; }
    std::span<const std::uint32_t> all_next() const { return next_; }

    // A chain's sectors; empty where it leads nowhere or around.
    std::vector<std::uint32_t> chain(std::uint32_t first) const {
        std::vector<std::uint32_t> sectors;
        for (std::uint32_t at = first; at < count_; at = next(at)) {
            if (sectors.size() > count_) return {};
            sectors.push_back(at);
        }
        return sectors;
    }

  private:
    std::size_t in_table() const { return size_ / 4; }

    // Sectors of the allocation table are marked as such in it, most of them in themselves. They come in the order in
    // which they tell of sectors.
    void find_tables() {
        const std::uint64_t wanted = (count_ + in_table() - 1) / in_table();
        std::set<std::uint32_t> marked;
        for (std::uint64_t index = 0; index < wanted; ++index) {
            const std::optional<std::uint32_t> own = table_of(index);
            tables_.push_back(own.value_or(kFree));
            if (!own) continue;
            for (std::size_t i = 0; i < in_table(); ++i)
                if (content_.u32le(place(*own) + 4 * i) == kTableSector)
                    marked.insert(static_cast<std::uint32_t>(index * in_table() + i));
        }
        for (const std::uint32_t table : tables_) marked.erase(table);
        for (std::uint32_t& table : tables_) {
            if (table != kFree || marked.empty()) continue;
            table = *marked.begin();
            marked.erase(marked.begin());
        }
        for (const std::uint32_t table : tables_)
            for (std::size_t i = 0; i < in_table(); ++i)
                next_.push_back(table != kFree && content_.holds(place(table), size_)
                                    ? content_.u32le(place(table) + 4 * i)
                                    : kFree);
        while (!tables_.empty() && tables_.back() == kFree) tables_.pop_back();
        next_.resize(tables_.size() * in_table());
    }

    // The table sector that tells of those from `index` times so many on, where it stands among them.
    std::optional<std::uint32_t> table_of(std::uint64_t index) {
        const std::uint64_t first = index * in_table();
        for (std::uint64_t sector = first; sector < std::min(count_, first + in_table()); ++sector)
            if (is_table(sector, sector - first)) return static_cast<std::uint32_t>(sector);
        return std::nullopt;
    }

    bool is_table(std::uint64_t sector, std::uint64_t own) {
        if (!content_.holds(place(sector), size_) || content_.u32le(place(sector) + 4 * own) != kTableSector)
            return false;
        for (std::size_t i = 0; i < in_table(); ++i)
            if (const std::uint32_t value = content_.u32le(place(sector) + 4 * i);
                value < kListSector && value >= count_ + in_table())
                return false;
        return true;
    }

    Reader& content_;
    std::size_t size_;
    std::uint64_t count_ = 0;
    std::vector<std::uint32_t> tables_;  // by what they tell of; kFree: it is lost
    std::vector<std::uint32_t> next_;
};

class CompoundMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "ole2";
        done_.unit = "streams";
        if (file_.content->size() > kLargestFile) return std::move(done_);
        const Measured found = measured(file_, "ole2", bench_);
        if (!found.format.empty()) done_.format = found.format;
        if (found.is_whole() && file_.holes.empty()) {
            DREDGER_TRY(Output output, bench_.output());
            output.add(*file_.content, 0, content_.size());
            done_.outcome = Outcome::whole;
            return counted(std::move(output));
        }
        for (const std::size_t size : {std::size_t{512}, std::size_t{4096}}) {
            Sectors sectors(content_, size);
            const auto root = root_of(sectors);
            if (sectors.tables().empty() || !root) continue;
            return rebuilt(sectors, *root);
        }
        done_.what.emplace_back("neither its allocation table nor its directory is to be found");
        return beyond();
    }

  private:
    // No program opens it: what it says and shows is saved beside where it would be.
    Result<Mended> beyond() {
        DREDGER_CHECK(save_beside(done_, bench_, text_in(content_), " (text).txt"));
        DREDGER_CHECK(save_pictures_beside(done_, file_, bench_));
        return std::move(done_);
    }

    Result<Mended> counted(Output output) {
        DREDGER_CHECK(output.finish());
        // What came back is what can be read of the result.
        if (const MediumPtr made = output.content()) {
            Budget budget = bench_.budget();
            Reader reader(*made, budget);
            const auto measured = formats::take_compound_apart(reader, [&](Part&& part) {
                ++done_.of;
                done_.kept += part.check != Part::Check::wrong ? 1 : 0;
                return true;
            });
            if (!measured.format.empty()) done_.format = measured.format;
        }
        const Format* format = format_named(done_.format);
        if (format != nullptr && done_.format != "ole2" && extension_of(file_.name).empty())
            done_.extension = format->extensions.front();
        done_.result = std::move(output);
        return std::move(done_);
    }

    std::optional<std::uint32_t> root_of(const Sectors& sectors) {
        for (std::uint64_t sector = 0; sector < sectors.count(); ++sector)
            // Some writers leave an empty one behind in a sector that is free.
            if (content_.has(sectors.place(sector), kRoot) && sectors.next(sector) != kFree)
                return static_cast<std::uint32_t>(sector);
        return std::nullopt;
    }

    struct Stream {
        std::uint32_t first;
        std::uint64_t size;
        bool is_root;
    };
    std::vector<Stream> directory(const Sectors& sectors, std::uint32_t root) {
        std::vector<Stream> streams;
        for (const std::uint32_t sector : sectors.chain(root))
            for (std::size_t at = 0; at < sectors.size(); at += kEntry) {
                const std::uint64_t entry = sectors.place(sector) + at;
                const unsigned type = content_.holds(entry, kEntry) ? content_.u8(entry + 66) : 0U;
                if (type == 2 || type == 5)
                    streams.push_back({content_.u32le(entry + 116), content_.u32le(entry + 120), type == 5});
            }
        return streams;
    }

    // No entry of the directory leads to the table of small sectors: it is a chain that nobody else begins with, of the
    // length that its streams ask for.
    std::uint32_t small_table(const Sectors& sectors, std::uint32_t root, const std::vector<Stream>& streams) {
        std::uint64_t small = 0;
        std::set<std::uint32_t> starts = {root};
        for (const Stream& stream : streams) {
            if (stream.is_root) small = (stream.size + 63) / 64;
            if (stream.is_root || stream.size >= kSmallStream) starts.insert(stream.first);
        }
        if (small == 0) return kEndOfChain;
        const std::uint64_t length = (small * 4 + sectors.size() - 1) / sectors.size();
        std::vector<bool> is_followed(static_cast<std::size_t>(sectors.count()));
        for (const std::uint32_t next : sectors.all_next())
            if (next < sectors.count()) is_followed[next] = true;
        for (std::uint32_t sector = 0; sector < sectors.count(); ++sector) {
            const std::uint32_t next = sectors.next(sector);
            if (is_followed[sector] || starts.contains(sector) || next == kFree || next == kTableSector ||
                next == kListSector)
                continue;
            const std::vector<std::uint32_t> chain = sectors.chain(sector);
            if (chain.size() == length && tells_of_small(sectors, chain, small)) return sector;
        }
        return kEndOfChain;
    }

    bool tells_of_small(const Sectors& sectors, const std::vector<std::uint32_t>& chain, std::uint64_t small) {
        std::uint64_t index = 0;
        for (const std::uint32_t sector : chain)
            for (std::size_t at = 0; at < sectors.size() && index < small; at += 4, ++index)
                if (const std::uint32_t value = content_.u32le(sectors.place(sector) + at);
                    value >= small && value < kEndOfChain)
                    return false;
        return true;
    }

    Result<Mended> rebuilt(Sectors& sectors, std::uint32_t root) {
        const bool has_header =
            content_.has(0, formats::CompoundFile::kMark) && content_.u16le(30) == (sectors.size() == 512 ? 9 : 12);
        const std::vector<Stream> streams = directory(sectors, root);
        std::size_t closed = 0;
        for (std::size_t sector = 0; sector < sectors.all_next().size(); ++sector) {
            const std::uint32_t next = sectors.next(sector);
            if (sector >= sectors.count() ? next != kFree : next < kListSector && next >= sectors.count()) {
                sectors.set_next(sector, sector >= sectors.count() ? kFree : kEndOfChain);
                closed += sector < sectors.count() ? 1 : 0;
            }
        }
        const bool is_cut = closed > 0;
        const auto lost_tables = std::count(sectors.tables().begin(), sectors.tables().end(), kFree);
        if (sectors.tables().size() > kInHeader && !has_header) {
            done_.what.emplace_back("its header is lost, and it is too large to have it made anew");
            return beyond();
        }
        DREDGER_TRY(Output output, bench_.output());
        if (has_header)
            output.add(*file_.content, 0, sectors.size());
        else
            output.add(header_for(sectors, root, small_table(sectors, root, streams)));
        output.add(*file_.content, sectors.size(),
                   content_.size() - std::min<std::uint64_t>(sectors.size(), content_.size()));
        output.add(std::string(
            static_cast<std::size_t>((sectors.size() - output.size() % sectors.size()) % sectors.size()), '\0'));
        if (is_cut)
            for (std::size_t i = 0; i < sectors.tables().size(); ++i)
                if (sectors.tables()[i] != kFree) {
                    std::string table;
                    for (const std::uint32_t next :
                         sectors.all_next().subspan(i * sectors.size() / 4, sectors.size() / 4))
                        table.append(little32(next));
                    output.replace(sectors.place(sectors.tables()[i]), table);
                }
        if (!has_header) done_.what.emplace_back("its header was made anew");
        if (is_cut) done_.what.push_back(fmt::format("{} chains lead behind its end and were closed there", closed));
        if (lost_tables > 0)
            done_.what.push_back(fmt::format("{} sectors of its allocation table are lost", lost_tables));
        DREDGER_TRY(Mended done, counted(std::move(output)));
        const bool is_complete = !is_cut && lost_tables == 0 && done.kept == done.of && file_.holes.empty();
        done.outcome = done.of == 0 ? Outcome::beyond : is_complete ? Outcome::mended : Outcome::partly;
        if (done.what.empty()) done.what.emplace_back("its streams contradict its tables: nothing could be made right");
        return done;
    }

    // The header of version 3, or of version 4 where sectors are large (2.2).
    std::string header_for(const Sectors& sectors, std::uint32_t root, std::uint32_t small) const {
        const bool is_large = sectors.size() > 512;
        std::string header(formats::CompoundFile::kMark);
        header += std::string(16, '\0') + little16(0x3E) + little16(is_large ? 4 : 3) + little16(0xFFFE) +
                  little16(is_large ? 12 : 9) + little16(6);
        header += std::string(6, '\0');
        header += little32(is_large ? static_cast<std::uint32_t>(sectors.chain(root).size()) : 0);
        header += little32(static_cast<std::uint32_t>(sectors.tables().size())) + little32(root) + little32(0) +
                  little32(kSmallStream);
        header += little32(small) +
                  little32(small == kEndOfChain ? 0 : static_cast<std::uint32_t>(sectors.chain(small).size()));
        header += little32(kEndOfChain) + little32(0);
        for (std::size_t i = 0; i < kInHeader; ++i)
            header += little32(i < sectors.tables().size() ? sectors.tables()[i] : kFree);
        header.resize(sectors.size());
        return header;
    }
};

unsigned bid_for_compound(const Damaged& file) {
    Budget budget;
    Reader content(*file.content, budget);
    const auto root = content.find(kRoot, 0, content.size());
    return root && *root % kEntry == 0 ? 64 : 0;
}

}  // namespace

const Mender& compound_mender() {
    static const Mender mender = {
        "compound files of older office programs",
        {"ole2", "doc", "xls", "ppt", "vsd", "pub", "wps", "hwp", "mpp", "msg", "msi"},
        "header, chains",
        bid_for_compound,
        [](const Damaged& file, Workbench& bench) { return CompoundMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
