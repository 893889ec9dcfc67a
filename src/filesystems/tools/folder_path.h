// Paths through folders that are known by a key each, some of which may not be known any more, or lead in circles.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace dredger {

// A folder as its file system tells of it.
template <class Key>
struct FolderStep {
    Key parent{};
    std::string name;     // UTF-8
    bool is_top = false;  // the path begins here: `name` stands in front of it, and may be empty
};

struct FolderPlace {
    std::string path;
    bool is_known = true;  // false: a placeholder stands for a folder that is not
};

inline constexpr int kDeepestFolder = 512;  // below each other; no system makes longer paths

// `step_of`: what is known of a folder, none where nothing is. `placeholder`: what stands for such a one, and for all
// above it; folders that contain each other lead nowhere either.
template <class Key, class StepOf, class Placeholder>
FolderPlace folder_place(Key folder, const StepOf& step_of, const Placeholder& placeholder) {
    std::vector<std::string> parts;  // from the last one up
    FolderPlace place;
    const Key first = folder;
    for (int depth = 0;; ++depth) {
        std::optional<FolderStep<Key>> step;
        if (depth < kDeepestFolder) step = step_of(folder);
        if (!step) {
            if (depth >= kDeepestFolder) parts.clear();
            parts.push_back(placeholder(depth >= kDeepestFolder ? first : folder));
            place.is_known = false;
            break;
        }
        if (!step->name.empty()) parts.push_back(std::move(step->name));
        if (step->is_top) break;
        folder = step->parent;
    }
    for (auto part = parts.rbegin(); part != parts.rend(); ++part) {
        if (!place.path.empty()) place.path += '/';
        place.path += *part;
    }
    return place;
}

}  // namespace dredger
