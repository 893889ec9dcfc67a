#include "bins/bins.h"

#include <algorithm>
#include <fmt/format.h>
#include <tuple>

#include "base/text.h"
#include "bins/freedesktop.h"
#include "bins/mac.h"
#include "bins/windows.h"
#include "media/content.h"

namespace dredger {
namespace {

constexpr const BinKind* kKinds[] = {
    &kRecycleBin,
    &kRecycler,
    &kDesktopTrash,
    &kMacTrash,
};

constexpr std::size_t kMaxEntries = 1'000'000;  // of all bins of a volume

// The parts of a path with what stands before and behind each.
struct Cut {
    std::string_view upto;   // the path up to and with the part
    std::string_view below;  // what follows it, without the slash
};

std::vector<Cut> cuts_of(std::string_view path) {
    std::vector<Cut> cuts;
    for (std::size_t slash = path.find('/'); slash != std::string_view::npos; slash = path.find('/', slash + 1))
        cuts.push_back({path.substr(0, slash), path.substr(slash + 1)});
    cuts.push_back({path, {}});
    return cuts;
}

void set_path(Record& record, const std::string& path) {
    const auto [folder, name] = split_path(path);
    record.folder = folder;
    record.name = name;
}

}  // namespace

bool Bins::holds(std::string_view path) {
    return std::any_of(std::begin(kKinds), std::end(kKinds), [&](const BinKind* kind) { return kind->holds(path); });
}

void Bins::learn(const Record& record, const MediumPtr& volume) {
    if (record.is_folder || record.layout.empty() || count_ >= kMaxEntries) return;
    for (const BinKind* kind : kKinds) {
        if (!kind->may_be_index(record.name, record.size)) continue;
        const auto content = open_content(volume, record.layout, record.size);
        std::vector<std::byte> bytes(static_cast<std::size_t>(content->size()));
        std::vector<Extent> bad;
        if (!content->read(0, bytes, &bad)) continue;
        std::vector<BinEntry> entries = kind->entries_of(record.path(), ByteView(bytes));
        if (!entries.empty()) index_files_.insert(record.content_key());
        count_ += entries.size();
        for (BinEntry& entry : entries) {
            entry.live = entry.live && record.state == State::live;
            entries_[folded(entry.item)].push_back(std::move(entry));
        }
    }
}

// Items get random names, so there is seldom more than one entry; a name that was given twice is told apart by what
// became of it, by its size, and by which is later.
const BinEntry* Bins::entry_for(const std::string& item, const Record& record, bool is_itself) const {
    const auto found = entries_.find(item);
    if (found == entries_.end()) return nullptr;
    const bool live = record.state == State::trashed || record.state == State::live;
    const auto worth = [&](const BinEntry& entry) {
        return std::tuple(entry.live == live, is_itself && !record.is_folder && entry.size == record.size,
                          entry.deleted.value_or(FileTime{}));
    };
    return &*std::max_element(found->second.begin(), found->second.end(),
                              [&](const BinEntry& a, const BinEntry& b) { return worth(a) < worth(b); });
}

bool Bins::settle(Record& record) const {
    if (record.state == State::live) return false;
    const std::string path = record.path();
    for (const Cut& cut : entries_.empty() ? std::vector<Cut>() : cuts_of(path)) {
        const bool is_itself = cut.below.empty();
        const BinEntry* entry = entry_for(folded(cut.upto), record, is_itself);
        // A stream is named after its file: what follows the semicolon stays.
        std::string_view stream;
        const std::size_t semicolon = is_itself ? cut.upto.find(';', cut.upto.rfind('/') + 1) : std::string_view::npos;
        if (entry == nullptr && semicolon != std::string_view::npos) {
            entry = entry_for(folded(cut.upto.substr(0, semicolon)), record, false);
            stream = cut.upto.substr(semicolon);
        }
        if (entry == nullptr) continue;
        std::string original = is_itself ? entry->original : joined(entry->original, cut.below);
        original += stream;
        set_path(record, original);
        // What was in a bin that was emptied may itself tell when that was.
        if (record.state == State::deleted && record.deleted && entry->deleted)
            record.facts.push_back({"thrown away", short_time(*entry->deleted)});
        else
            record.deleted = entry->deleted;
        record.facts.push_back({"original place", entry->noted_as});
        record.facts.push_back({"in the bin as", path});
        if (!entry->account.empty()) record.facts.push_back({"account", entry->account});
        return true;
    }
    for (const BinKind* kind : kKinds)
        if (index_files_.contains(record.content_key()) && kind->may_be_index(record.name, record.size))
            record.notes.push_back(fmt::format("a file in which the {} noted what was thrown away", kind->name));
    if (record.state == State::trashed)
        record.notes.emplace_back("it lies in a bin that has no notes of it: where it was before is not known");
    return false;
}

void Bins::note_move(const Record& record) { moved_[folded(record.path())].push_back(record.content_key()); }

bool Bins::is_former_place(const Record& record) const {
    if (record.origin != Origin::remnant) return false;
    const auto moved = moved_.find(folded(record.path()));
    if (moved == moved_.end()) return false;
    return record.layout.empty() ||
           std::find(moved->second.begin(), moved->second.end(), record.content_key()) != moved->second.end();
}

}  // namespace dredger
