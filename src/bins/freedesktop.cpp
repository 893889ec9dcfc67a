#include "bins/freedesktop.h"

#include <fmt/format.h>

#include "bins/noted_path.h"

namespace dredger {
namespace {

constexpr std::string_view kEnding = ".trashinfo";
constexpr std::uint64_t kLongestInfo = 64 << 10;  // bytes; a path of 4096 bytes takes three times as many at most
constexpr std::string_view kHomeTrash = ".local/share/Trash";

struct TrashPath {
    std::string_view trash;  // the trash's own folder
    std::string_view home;   // the folder whose trash it is; of a trash at the top of a volume, empty
    bool is_home = false;
    std::string_view below;  // "files/NAME", "info/NAME.trashinfo"
};

// Where a path leads into a trash.
std::optional<TrashPath> trash_in(std::string_view path) {
    const auto upto = [&](std::size_t length, std::string_view home, bool is_home) -> std::optional<TrashPath> {
        if (length + 1 >= path.size()) return std::nullopt;
        return TrashPath{path.substr(0, length), home, is_home, path.substr(length + 1)};
    };
    const std::string_view top = path.substr(0, path.find('/'));
    if (top.starts_with(".Trash-") && is_number(top.substr(7))) return upto(top.size(), {}, false);
    if (top == ".Trash") {
        const std::size_t end = std::min(path.find('/', top.size() + 1), path.size());
        if (top.size() + 1 < end && is_number(path.substr(top.size() + 1, end - top.size() - 1)))
            return upto(end, {}, false);
    }
    for (std::size_t at = path.find(kHomeTrash); at != std::string_view::npos; at = path.find(kHomeTrash, at + 1)) {
        const std::size_t end = at + kHomeTrash.size();
        if ((at == 0 || path[at - 1] == '/') && end < path.size() && path[end] == '/')
            return upto(end, path.substr(0, at == 0 ? 0 : at - 1), true);
    }
    return std::nullopt;
}

bool lies_in_trash(std::string_view path) {
    const auto place = trash_in(path);
    return place && place->below.starts_with("files/") && place->below.size() > 6;
}

bool may_be_info(std::string_view name, std::uint64_t size) {
    return name.size() > kEnding.size() && name.ends_with(kEnding) && size > 0 && size <= kLongestInfo;
}

// A home's trash notes paths from the root of the whole system; where its volume was mounted there, the home's own
// place tells.
std::string path_on_volume(const TrashPath& place, std::string_view noted) {
    if (place.is_home && !place.home.empty() && noted.starts_with('/')) {
        const std::string home = fmt::format("/{}/", place.home);
        if (const std::size_t at = noted.find(home); at != std::string_view::npos) noted.remove_prefix(at);
    }
    return plain_path(noted);
}

// "2026-01-25T20:44:34", by the clock of who threw it away.
std::optional<FileTime> local_time(std::string_view text) {
    const auto typed = parse_time(text);
    if (!typed || text.size() < 19) return std::nullopt;
    return FileTime{typed->first, 0, FileTime::Clock::local};
}

std::vector<BinEntry> read_info(std::string_view path, ByteView content) {
    const auto place = trash_in(path);
    if (!place || !place->below.starts_with("info/")) return {};
    const std::string_view name = place->below.substr(5);
    BinEntry entry;
    entry.item = fmt::format("{}/files/{}", place->trash, name.substr(0, name.size() - kEnding.size()));
    const std::string_view text(reinterpret_cast<const char*>(content.bytes().data()), content.size());
    if (!text.starts_with("[Trash Info]")) return {};
    for (std::size_t from = 0; from < text.size();) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        std::string_view line = text.substr(from, end - from);
        from = end + 1;
        if (line.ends_with('\r')) line.remove_suffix(1);
        if (line.starts_with("Path=") && entry.original.empty()) {
            const std::string noted = percent_decoded(line.substr(5));
            entry.noted_as = printable(noted);
            entry.original = path_on_volume(*place, noted);
        } else if (line.starts_with("DeletionDate=") && !entry.deleted) {
            entry.deleted = local_time(line.substr(13));
        }
    }
    if (entry.original.empty()) return {};
    if (place->is_home) entry.account = std::string(place->home.substr(place->home.rfind('/') + 1));
    return {entry};
}

}  // namespace

constexpr BinKind kDesktopTrash = {"trash", lies_in_trash, may_be_info, read_info};

}  // namespace dredger
