#include "filesystems/filesystem.h"

namespace dredger {

std::vector<std::string> attribute_words(std::uint32_t attributes) {
    static constexpr std::pair<std::uint32_t, std::string_view> kWords[] = {
        {0x0001, "read-only"}, {0x0002, "hidden"}, {0x0004, "system"}, {0x0200, "sparse"}, {0x0800, "compressed"}};
    std::vector<std::string> words;
    for (const auto& [bit, word] : kWords)
        if ((attributes & bit) != 0) words.emplace_back(word);
    return words;
}

}  // namespace dredger
