#include "bins/mac.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

#include "bins/finder_store.h"
#include "bins/noted_path.h"

namespace dredger {
namespace {

constexpr std::string_view kHomeTrash = ".Trash", kVolumeTrash = ".Trashes", kStore = ".DS_Store";
constexpr std::uint64_t kLargestStore = 16 << 20;  // bytes

struct TrashPath {
    std::string_view trash;  // the trash's own folder
    std::string_view above;  // the home, or the volume's top, that it is of
    bool is_home = false;
    std::string_view below;  // what lies in it; empty: it is the trash itself
};

// Where a path leads into a trash.
std::optional<TrashPath> trash_in(std::string_view path) {
    for (std::size_t from = 0; from < path.size();) {
        std::size_t end = std::min(path.find('/', from), path.size());
        const std::string_view part = path.substr(from, end - from);
        const bool is_home = part == kHomeTrash;
        if (part == kVolumeTrash && end < path.size()) {
            const std::size_t id = end + 1;
            end = std::min(path.find('/', id), path.size());
            if (!is_number(path.substr(id, end - id))) return std::nullopt;
        } else if (!is_home) {
            from = end + 1;
            continue;
        }
        return TrashPath{path.substr(0, end), path.substr(0, from == 0 ? 0 : from - 1), is_home,
                         end < path.size() ? path.substr(end + 1) : std::string_view()};
    }
    return std::nullopt;
}

bool lies_in_trash(std::string_view path) {
    const auto place = trash_in(path);
    return place && !place->below.empty() && place->below != kStore;
}

bool may_be_store(std::string_view name, std::uint64_t size) {
    return name == kStore && size > 0 && size <= kLargestStore;
}

// The note tells a path from the top of its volume, or of the whole system; this is one of the volume, below what
// stands in front of all its paths here.
std::string path_on_volume(const TrashPath& place, std::string_view noted) {
    for (const std::string_view front : {"/", "System/Volumes/Data/"})
        if (noted.starts_with(front)) noted.remove_prefix(front.size());
    std::string_view front = place.above;  // of a volume's trash: nothing but that
    if (place.is_home)
        // As much of the home's own path as the note begins with is the volume's.
        for (std::size_t at = 0; at < place.above.size();) {
            const std::string home = fmt::format("{}/", place.above.substr(at));
            if (noted.starts_with(home)) {
                front = place.above.substr(0, at == 0 ? 0 : at - 1);
                break;
            }
            const std::size_t slash = place.above.find('/', at);
            if (slash == std::string_view::npos) {
                front = {};
                break;
            }
            at = slash + 1;
        }
    const std::string path = plain_path(noted);
    return path.empty() ? std::string(front) : joined(front, path);
}

std::vector<BinEntry> read_store(std::string_view path, ByteView content) {
    const auto place = trash_in(path);
    if (!place || place->below != kStore) return {};
    struct PutBack {
        std::string folder, name;
        bool is_told = false;
    };
    std::map<std::string, PutBack> items;
    for (FinderNote& note : read_finder_store(content)) {
        if (note.code == "ptbL") {
            items[note.item].folder = std::move(note.text);
            items[note.item].is_told = true;
        } else if (note.code == "ptbN") {
            items[note.item].name = std::move(note.text);
        }
    }
    std::vector<BinEntry> entries;
    for (const auto& [item, back] : items) {
        if (!back.is_told || item.empty()) continue;
        BinEntry entry;
        entry.item = joined(place->trash, item);
        const std::string& name = back.name.empty() ? item : back.name;
        entry.original = path_on_volume(*place, fmt::format("{}/{}", back.folder, name));
        entry.noted_as = joined(back.folder, name);
        if (place->is_home) entry.account = std::string(place->above.substr(place->above.rfind('/') + 1));
        entries.push_back(std::move(entry));
    }
    return entries;
}

}  // namespace

constexpr BinKind kMacTrash = {"trash", lies_in_trash, may_be_store, read_store};

}  // namespace dredger
