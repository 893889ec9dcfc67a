#include "filesystems/ntfs/folders.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/tools/folder_path.h"

namespace dredger::ntfs {
namespace {

constexpr std::size_t kMaxRemembered = 4096;  // paths
constexpr std::size_t kMaxNameBytes = 1U << 31;

}  // namespace

bool is_same_life(std::uint16_t referred, std::uint16_t sequence, bool in_use) {
    if (referred == sequence) return true;
    const auto risen = static_cast<std::uint16_t>(referred + 1);
    return !in_use && (risen == 0 ? 1 : risen) == sequence;
}

std::uint16_t sequence_before_freeing(std::uint16_t sequence) {
    return static_cast<std::uint16_t>(sequence == 1 ? 0xFFFF : sequence - 1);
}

void Folders::add(std::uint64_t number, std::uint16_t sequence, bool in_use, Reference parent, std::string_view name) {
    if (names_.size() + name.size() > kMaxNameBytes) return;
    entries_.push_back({number, parent, static_cast<std::uint32_t>(names_.size()),
                        static_cast<std::uint16_t>(name.size()), sequence, in_use});
    names_ += name;
}

void Folders::add_former(Reference folder, Reference parent, std::string_view name) {
    former_.try_emplace(folder, parent, name);
    paths_.clear();
}

const Folders::Entry* Folders::find(Reference folder) const {
    const auto found = std::lower_bound(entries_.begin(), entries_.end(), folder.number,
                                        [](const Entry& e, std::uint64_t number) { return e.number < number; });
    if (found == entries_.end() || found->number != folder.number) return nullptr;
    return is_same_life(folder.sequence, found->sequence, found->in_use) ? &*found : nullptr;
}

const std::string& Folders::path_of(Reference folder) {
    if (const auto known = paths_.find(folder); known != paths_.end()) return known->second;
    const auto step_of = [this](Reference at) -> std::optional<FolderStep<Reference>> {
        if (at.number == ROOT_FILE_NAME_INDEX_NUMBER) return FolderStep<Reference>{{}, "", true};
        if (const Entry* entry = find(at))
            return FolderStep<Reference>{entry->parent, names_.substr(entry->name_at, entry->name_length), false};
        const auto former = former_.find(at);
        if (former == former_.end()) return std::nullopt;
        return FolderStep<Reference>{former->second.first, former->second.second, false};
    };
    std::string path =
        folder_place(folder, step_of, [](Reference at) { return fmt::format("(folder {})", at.number); }).path;
    if (paths_.size() >= kMaxRemembered) paths_.clear();
    return paths_.emplace(folder, std::move(path)).first->second;
}

}  // namespace dredger::ntfs
