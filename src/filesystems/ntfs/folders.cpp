#include "filesystems/ntfs/folders.h"

#include <algorithm>
#include <fmt/format.h>

namespace dredger::ntfs {
namespace {

constexpr std::size_t kMostRemembered = 4096;  // paths
constexpr int kDeepest = 512;  // folders below each other; the longest path that Windows makes has fewer
constexpr std::size_t kMostNameBytes = 1U << 31;

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
    if (names_.size() + name.size() > kMostNameBytes) return;
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
    std::vector<std::string_view> parts;
    std::string top;
    Reference at = folder;
    for (int depth = 0; at.number != ROOT_FILE_NAME_INDEX_NUMBER; ++depth) {
        const Entry* entry = depth < kDeepest ? find(at) : nullptr;
        const auto former = entry == nullptr && depth < kDeepest ? former_.find(at) : former_.end();
        if (entry != nullptr) {
            parts.push_back(std::string_view(names_).substr(entry->name_at, entry->name_length));
            at = entry->parent;
        } else if (former != former_.end()) {
            parts.push_back(former->second.second);
            at = former->second.first;
        } else {
            // Folders that contain each other lead nowhere either.
            if (depth >= kDeepest) parts.clear();
            top = fmt::format("(folder {})", depth >= kDeepest ? folder.number : at.number);
            break;
        }
    }
    std::string path = top;
    for (auto part = parts.rbegin(); part != parts.rend(); ++part) {
        if (!path.empty()) path += '/';
        path += *part;
    }
    if (paths_.size() >= kMostRemembered) paths_.clear();
    return paths_.emplace(folder, std::move(path)).first->second;
}

}  // namespace dredger::ntfs
