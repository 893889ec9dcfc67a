#include "formats/compound_file.h"

#include <algorithm>
#include <optional>

#include "base/checked.h"
#include "base/text.h"
#include "formats/compound/known_streams.h"

namespace dredger::formats {
namespace {

constexpr std::uint32_t kFree = 0xFFFFFFFF;
constexpr std::uint32_t kEndOfChain = 0xFFFFFFFE;
constexpr std::uint32_t kTableMark = 0xFFFFFFFD;
constexpr std::uint32_t kLeastMark = 0xFFFFFFFC;
constexpr std::uint32_t kMaxSectors = 16 << 20;
constexpr std::uint64_t kSmallSector = 64;     // bytes
constexpr std::uint64_t kGrain = 512;          // bytes; places of files are multiples of it
constexpr std::uint64_t kMaxSmall = 64 << 20;  // bytes of all small streams together

// Its tables, its directory and its chains, as far as they tell where it ends.
class Structure {
  public:
    Structure(Reader& content, const PartSink& parts) : content_(content), parts_(parts) {}

    Measured measure() {
        const unsigned shift = content_.u16le(30);
        if (!has_header(content_.u16le(26), shift)) return nonsense();
        sector_ = std::uint64_t{1} << shift;
        const std::uint32_t tables = content_.u32le(44);
        if (tables == 0 || tables > kMaxSectors / (sector_ / 4)) return nonsense();
        right_at(0);
        list_tables(tables);
        const bool has_names = has_directory();
        if (parts_.is_wanted()) {
            learn_folders();
            tell_small_streams();
        }
        // Whoever wants the parts gets those of a file that is cut, too.
        const bool hold = !parts_.is_wanted() || chains_hold();
        // Behind the last sector that is in use the file ends, wherever the table goes on.
        std::uint32_t last = 0;
        for (std::size_t t = table_sectors_.size(); t-- > 0 && last == 0;)
            for (std::uint64_t i = sector_ / 4; i-- > 0 && last == 0 && is_right_[t];)
                if (view_of(links_of(t)).u32le(4 * i).value_or(kFree) != kFree)
                    last = static_cast<std::uint32_t>(t * (sector_ / 4) + i);
        const std::uint64_t end = place_of(last) + sector_;
        // Tables that lie elsewhere may tell of more.
        const bool has_tables = std::find(is_right_.begin(), is_right_.end(), false) == is_right_.end();
        if (first_wrong_) return torn(has_names && has_tables ? end : 0);
        if (!content_.holds(0, end)) return broken(content_.size(), "its end is missing", end, format());
        if (!hold || (!parts_.is_wanted() && !chains_hold()))
            return broken(std::min(bad_at_, content_.size()), "a chain of sectors is damaged", end, format());
        if (!parts_.is_wanted()) {
            look_into_tables();
            look_into_streams();
        }
        if (first_wrong_) return torn(end);
        return whole(end, Proof::chain, format());
    }

    // How much further on than they should the first table and the directory stand that could be this one's.
    std::vector<std::uint64_t> gaps() {
        std::vector<std::uint64_t> found;
        const unsigned shift = content_.u16le(30);
        if (!has_header(content_.u16le(26), shift)) return found;
        sector_ = std::uint64_t{1} << shift;
        const std::uint32_t tables = content_.u32le(44);
        if (tables == 0 || tables > kMaxSectors / (sector_ / 4)) return found;
        list_tables(tables);
        for (std::size_t t = 0; t < table_sectors_.size() && found.empty(); ++t)
            if (!is_right_[t] && table_sectors_[t] / (sector_ / 4) == t) add_gaps_of_table(table_sectors_[t], found);
        std::vector<std::uint64_t> of_directory;
        add_gaps_of_directory(of_directory);
        // What both tell comes first, and the nearest.
        const auto is_of_both = [&](std::uint64_t gap) {
            return std::find(of_directory.begin(), of_directory.end(), gap) != of_directory.end();
        };
        const auto apart = std::stable_partition(found.begin(), found.end(), is_of_both);
        std::vector<std::uint64_t> others(apart, found.end());
        for (const std::uint64_t gap : of_directory)
            if (std::find(found.begin(), apart, gap) == apart) others.push_back(gap);
        std::sort(others.begin(), others.end());
        found.erase(apart, found.end());
        found.insert(found.end(), others.begin(), others.end());
        return found;
    }

  private:
    static constexpr std::uint64_t kFurthest = 64 << 20;  // bytes that are looked through
    static constexpr std::size_t kMostGaps = 12;

    // A table has its own mark where it tells of itself, and links to sectors that there can be.
    void add_gaps_of_table(std::uint32_t sector, std::vector<std::uint64_t>& found) {
        using namespace std::string_view_literals;
        const std::uint64_t place = place_of(sector), mark_at = place + 4 * (sector % (sector_ / 4));
        const std::uint64_t limit = std::min(content_.size(), mark_at + kFurthest);
        for (std::uint64_t at = mark_at + kGrain; found.size() < kMostGaps && content_.ok();) {
            const auto mark = content_.find("\xFD\xFF\xFF\xFF"sv, at, limit);
            if (!mark) return;
            at = *mark + 1;
            const std::uint64_t gap = *mark - mark_at;
            if (gap % kGrain == 0 && is_table(place + gap)) found.push_back(gap);
        }
    }
    bool is_table(std::uint64_t place) {
        const std::uint64_t count = table_sectors_.size() * (sector_ / 4);
        for (std::uint64_t i = 0; i < sector_ / 4; ++i)
            if (const std::uint32_t link = content_.u32le(place + 4 * i); link >= count && link < kLeastMark)
                return false;
        return content_.ok();
    }

    void add_gaps_of_directory(std::vector<std::uint64_t>& found) {
        using namespace std::string_view_literals;
        const std::uint32_t sector = content_.u32le(48);
        if (sector >= kMaxSectors) return;
        const std::uint64_t place = place_of(sector), limit = std::min(content_.size(), place + kFurthest);
        for (std::uint64_t at = place + kGrain; found.size() < kMostGaps && content_.ok();) {
            const auto root = content_.find("R\0o\0o\0t\0 \0E\0n\0t\0r\0y\0"sv, at, limit);
            if (!root) return;
            at = *root + 1;
            if ((*root - place) % kGrain == 0) found.push_back(*root - place);
        }
    }

    struct Stream {
        std::uint32_t start;
        std::uint64_t size;
        std::string name;
        std::size_t entry = 0;  // of the directory
    };
    // Of the directory: a name in a tree of those that lie in the same storage.
    struct Entry {
        std::string name;
        std::uint32_t left, right, child;
    };

    std::uint64_t place_of(std::uint32_t sector) const { return (std::uint64_t{sector} + 1) * sector_; }

    bool has_header(unsigned version, unsigned shift) {
        constexpr unsigned kSmallShift = 6, kCutoff = 4096;
        return content_.u16le(28) == 0xFFFE && ((version == 3 && shift == 9) || (version == 4 && shift == 12)) &&
               content_.u16le(32) == kSmallShift && content_.u32le(56) == kCutoff;
    }

    // What stands at a place is as it must be there, or is not: so it shows where another file's sectors begin.
    void right_at(std::uint64_t place) { right_.push_back(place); }
    void wrong_at(std::uint64_t place) { first_wrong_ = std::min(place, first_wrong_.value_or(place)); }

    Measured torn(std::uint64_t end) {
        std::uint64_t sure = 0;
        for (const std::uint64_t place : right_)
            if (place < *first_wrong_) sure = std::max(sure, place);
        return broken_between(sure + sector_, std::min(*first_wrong_, content_.size()),
                              "its sectors are not where its table says", end, format());
    }

    void list_tables(std::uint32_t count) {
        for (unsigned i = 0; i < 109 && table_sectors_.size() < count; ++i)
            table_sectors_.push_back(content_.u32le(76 + 4 * std::uint64_t{i}));
        std::uint32_t more = content_.u32le(68);
        for (std::uint32_t n = 0; table_sectors_.size() < count && n < count && more < kMaxSectors; ++n) {
            if (!content_.holds(place_of(more), sector_)) break;
            for (std::uint64_t i = 0; i + 1 < sector_ / 4 && table_sectors_.size() < count; ++i)
                table_sectors_.push_back(content_.u32le(place_of(more) + 4 * i));
            more = content_.u32le(place_of(more) + sector_ - 4);
        }
        if (table_sectors_.size() != count) wrong_at(place_of(std::min(more, kMaxSectors)));
        // Each sector of the table marks itself as one; some writers leave the mark of a chain's end.
        for (const std::uint32_t sector : table_sectors_)
            is_right_.push_back(sector < kMaxSectors && content_.holds(place_of(sector), sector_));
        std::vector<bool> marked = is_right_;
        for (std::size_t t = 0; t < table_sectors_.size(); ++t) {
            const std::uint32_t mark = is_right_[t] ? next(table_sectors_[t]) : kFree;
            marked[t] = mark == kTableMark || mark == kEndOfChain;
            if (marked[t]) {
                right_at(place_of(table_sectors_[t]));
            } else {
                wrong_at(place_of(table_sectors_[t]));
            }
        }
        is_right_ = std::move(marked);
    }

    std::uint32_t next(std::uint32_t sector) {
        const std::size_t table = sector / (sector_ / 4);
        if (table >= table_sectors_.size() || !is_right_[table]) return kFree;
        const std::string& links = links_of(table);
        return view_of(links).u32le(4 * (sector % (sector_ / 4))).value_or(kFree);
    }

    // The bytes of a table's sector, read once.
    const std::string& links_of(std::size_t table) {
        links_.resize(table_sectors_.size());
        if (links_[table].empty())
            links_[table] = content_.text(place_of(table_sectors_[table]), static_cast<std::size_t>(sector_));
        return links_[table];
    }

    // An entry of the directory that makes sense; nothing where it does not.
    bool take_entry(std::uint64_t entry) {
        const unsigned type = content_.u8(entry + 66);
        const unsigned length = content_.u16le(entry + 64);
        entries_.push_back({{}, kFree, kFree, kFree});
        // The first one is the root.
        if (type == 0) return entries_.size() > 1;
        if (length < 2 || length > 64 || type > 5 || (names_.empty() && type != 5)) return false;
        const std::string raw = content_.text(entry, length - 2);
        const std::string name = utf16le_to_utf8(std::as_bytes(std::span(raw)));
        const Stream stream{content_.u32le(entry + 116),
                            content_.u64le(entry + 120) & (sector_ == 512 ? 0xFFFFFFFF : ~0ULL), name,
                            entries_.size() - 1};
        entries_.back() = {name, content_.u32le(entry + 68), content_.u32le(entry + 72), content_.u32le(entry + 76)};
        if (type == 5) {
            root_class_ = content_.u32le(entry + 80);
            root_ = stream;
        }
        if (type == 2) streams_.push_back(stream);
        names_.push_back(name);
        return true;
    }

    // The directory: the root, then the names that tell what the file is.
    bool has_directory() {
        std::uint32_t sector = content_.u32le(48);
        const std::uint64_t most = content_.size() / sector_;  // more of a chain would lead in a circle
        for (std::uint64_t n = 0; sector < kMaxSectors && n < most; ++n, sector = next(sector)) {
            const std::uint64_t place = place_of(sector);
            bool makes_sense = content_.holds(place, sector_);
            for (std::uint64_t entry = place; entry < place + sector_ && makes_sense; entry += 128)
                makes_sense = take_entry(entry);
            if (!makes_sense) {
                wrong_at(place);
                break;
            }
            right_at(place);
        }
        if (names_.empty() && !first_wrong_) wrong_at(place_of(0));
        return !names_.empty();
    }

    // Which storage each entry lies in. Each is reached once, whatever the links say.
    void learn_folders() {
        if (folders_.size() == entries_.size()) return;
        folders_.assign(entries_.size(), {});
        std::vector<bool> seen(entries_.size());
        std::vector<std::pair<std::uint32_t, std::string>> left = {{entries_.front().child, ""}};
        while (!left.empty()) {
            auto [number, folder] = std::move(left.back());
            left.pop_back();
            if (number >= entries_.size() || seen[number]) continue;
            seen[number] = true;
            const Entry& entry = entries_[number];
            left.emplace_back(entry.left, folder);
            left.emplace_back(entry.right, folder);
            left.emplace_back(entry.child, joined(folder, entry.name));
            folders_[number] = std::move(folder);
        }
    }

    // The places of a stream's sectors.
    std::vector<std::uint64_t> places_of(const Stream& stream) {
        std::vector<std::uint64_t> places;
        for (const std::uint32_t sector : chain(stream.start, std::min(stream.size, content_.size())))
            places.push_back(place_of(sector));
        return places;
    }

    // What is in the streams shows where another file's sectors stand.
    void look_into_streams() {
        // Beside an encrypted document ([MS-OFFCRYPTO]) an empty one stands for programs that don't know of such.
        if (std::find(names_.begin(), names_.end(), "EncryptedPackage") != names_.end()) return;
        learn_folders();
        BlockStreams streams;
        for (const Stream& stream : streams_) {
            if (stream.size == 0) continue;
            const bool is_small = stream.size < content_.u32le(56);
            streams.emplace(joined(folders_[stream.entry], stream.name),
                            BlockStream(content_, is_small ? places_of_small(stream) : places_of(stream),
                                        is_small ? kSmallSector : sector_, stream.size));
        }
        look_into(streams,
                  {[this](std::uint64_t place) { right_at(place); }, [this](std::uint64_t place) { wrong_at(place); }});
    }

    // Links lead to sectors that there can be.
    void look_into_tables() {
        const std::uint64_t count = table_sectors_.size() * (sector_ / 4);
        for (std::size_t t = 0; t < table_sectors_.size(); ++t)
            for (std::uint64_t i = 0; i < sector_ / 4 && is_right_[t]; ++i) {
                const std::uint32_t link = view_of(links_of(t)).u32le(4 * i).value_or(kFree);
                if (link >= count && link < kLeastMark) return wrong_at(place_of(table_sectors_[t]));
            }
        const std::uint64_t holder = chain(root_.start, kMaxSmall).size() * sector_;
        const std::uint64_t small = divide_up(std::min(std::max(root_.size, holder), kMaxSmall), kSmallSector);
        std::uint64_t left = small;
        for (const std::uint32_t sector : chain(content_.u32le(60), small * 4)) {
            for (std::uint64_t i = 0; i < sector_ / 4 && left > 0; ++i, --left) {
                const std::uint32_t link = content_.u32le(place_of(sector) + 4 * i);
                if (link >= small && link < kLeastMark) return wrong_at(place_of(sector));
            }
            right_at(place_of(sector));
        }
    }

    // The sectors of a chain, as many as hold `bytes`.
    std::vector<std::uint32_t> chain(std::uint32_t sector, std::uint64_t bytes) {
        std::vector<std::uint32_t> sectors;
        const std::uint64_t most = std::min<std::uint64_t>(kMaxSectors, divide_up(bytes, sector_));
        for (; sectors.size() < most && sector < kMaxSectors && content_.ok(); sector = next(sector))
            sectors.push_back(sector);
        return sectors;
    }

    // The places of a small stream's sectors: those lie in the stream of the root, with a table of their own. Fewer
    // where their chain ends early.
    std::vector<std::uint64_t> places_of_small(const Stream& stream) {
        if (small_holder_.empty()) {
            small_holder_ = chain(root_.start, std::min(root_.size, kMaxSmall));
            small_table_ = chain(content_.u32le(60), divide_up(std::min(root_.size, kMaxSmall), kSmallSector) * 4);
        }
        const auto place_in = [&](const std::vector<std::uint32_t>& sectors, std::uint64_t at) {
            const std::uint64_t n = at / sector_;
            return n < sectors.size() ? std::optional(place_of(sectors[static_cast<std::size_t>(n)]) + at % sector_)
                                      : std::nullopt;
        };
        std::vector<std::uint64_t> places;
        std::uint32_t sector = stream.start;
        for (std::uint64_t left = divide_up(stream.size, kSmallSector); left > 0 && content_.ok(); --left) {
            const auto place = place_in(small_holder_, std::uint64_t{sector} * kSmallSector);
            const auto link = place_in(small_table_, std::uint64_t{sector} * 4);
            if (!place || !link) break;
            places.push_back(*place);
            sector = content_.u32le(*link);
            if (left == 1) small_ends_ = sector == kEndOfChain;
        }
        return places;
    }

    void tell_small_streams() {
        const std::uint64_t cutoff = content_.u32le(56);
        for (const Stream& stream : streams_) {
            if (stream.size >= cutoff || stream.size == 0) continue;
            Part part{"stream",           stream.name,           {}, Packing::none, stream.size,
                      Part::Check::wrong, folders_[stream.entry]};
            small_ends_ = false;
            std::uint64_t left = stream.size;
            for (const std::uint64_t place : places_of_small(stream)) {
                append(part.where, {place, std::min(left, kSmallSector)});
                left -= std::min(left, kSmallSector);
            }
            if (left == 0 && small_ends_) part.check = Part::Check::right;
            parts_.tell(std::move(part));
        }
    }

    bool chains_hold() {
        const std::uint64_t cutoff = content_.u32le(56);
        bool hold = true;
        for (const Stream& stream : streams_) {
            if (stream.size < cutoff) continue;
            Part part{"stream", stream.name, {}, Packing::none, stream.size, Part::Check::right};
            if (parts_.is_wanted()) part.folder = folders_[stream.entry];
            std::uint32_t sector = stream.start;
            const bool can_be = stream.size <= content_.size();
            std::uint64_t left = std::min(stream.size, content_.size());
            for (; left > 0 && sector < kMaxSectors && content_.ok(); sector = next(sector)) {
                bad_at_ = place_of(sector);
                const Extent here{bad_at_, std::min(left, sector_)};
                if (parts_.is_wanted()) append(part.where, here);
                left -= here.length;
            }
            const bool is_right = can_be && left == 0 && sector == kEndOfChain;
            if (!is_right) part.check = Part::Check::wrong;
            if (parts_.is_wanted()) parts_.tell(std::move(part));
            hold = hold && is_right;
            // Whoever wants the parts gets those behind a damaged one, too.
            if (!hold && !parts_.is_wanted()) return false;
        }
        return hold;
    }

    // By the names of what lies at the top: documents within have theirs, too.
    std::string_view format() {
        learn_folders();
        const auto has = [&](std::string_view wanted) {
            for (std::size_t n = 0; n < entries_.size(); ++n)
                if (folders_[n].empty() && entries_[n].name == wanted) return true;
            return false;
        };
        if (has("WordDocument")) return "doc";
        if (has("Workbook") || has("Book") || has("WORKBOOK") || has("BOOK")) return "xls";
        if (has("PowerPoint Document") || has("PP40")) return "ppt";
        if (has("__properties_version1.0")) return "msg";
        if (has("VisioDocument")) return "vsd";
        if (has("Quill")) return "pub";
        if (has("MatOST")) return "wps";
        if (has("HwpSummaryInformation") || has("\x05HwpSummaryInformation")) return "hwp";
        if (std::any_of(names_.begin(), names_.end(), [](const std::string& name) { return name.starts_with("   1"); }))
            return "mpp";
        if (root_class_ == 0x000C1084) return "msi";
        return "ole2";
    }

    Reader& content_;
    PartTeller parts_;
    std::uint64_t sector_ = 512;
    std::vector<std::uint32_t> table_sectors_;
    std::vector<bool> is_right_;      // of these
    std::vector<std::string> links_;  // of these, as far as they were asked for
    std::vector<std::uint64_t> right_;
    std::optional<std::uint64_t> first_wrong_;
    std::vector<std::string> names_;
    std::vector<Stream> streams_;
    std::vector<Entry> entries_;
    std::vector<std::string> folders_;  // of these
    Stream root_{0, 0, {}};             // holds the small ones
    std::uint32_t root_class_ = 0;
    std::vector<std::uint32_t> small_holder_, small_table_;  // sectors
    bool small_ends_ = false;                                // the chain that was followed last
    std::uint64_t bad_at_ = 0;
};

}  // namespace

Measured take_compound_apart(Reader& content, const PartSink& parts) { return Structure(content, parts).measure(); }

std::vector<std::uint64_t> gaps_of_compound(Reader& content, const Measured&) { return Structure(content, {}).gaps(); }

CompoundFile::CompoundFile(Reader& content) : content_(content) {
    if (!content.has(0, kMark)) return;
    (void)take_compound_apart(content, [this](Part&& part) {
        streams_.try_emplace(part.name, std::move(part));
        return streams_.size() < kMaxStreams;
    });
}

std::string CompoundFile::stream(const std::string& name, std::size_t most) const {
    const auto found = streams_.find(name);
    return found == streams_.end() ? std::string() : bytes_of(content_, found->second, std::min(most, kMaxStream));
}

std::string CompoundFile::message_property(const std::string& tag, std::size_t most) const {
    const std::string name = "__substg1.0_" + tag;
    const std::string wide = stream(name + "001F", most);
    if (!wide.empty()) return utf16le_to_utf8(view_of(wide).bytes());
    return code_page_to_utf8(view_of(stream(name + "001E", most)).bytes(), CodePage::windows1252);
}

}  // namespace dredger::formats
