#include "filesystems/posix.h"

#include <fmt/format.h>

namespace dredger {

std::string mode_text(std::uint16_t mode) {
    constexpr std::string_view kTypes = "?pc?d?b?-?l?s???";
    std::string text(1, kTypes[mode >> 12U]);
    constexpr std::string_view kLetters = "rwx";
    for (unsigned bit = 0; bit < 9; ++bit) text += (mode >> (8 - bit) & 1U) != 0 ? kLetters[bit % 3] : '-';
    const auto special = [&](unsigned bit, std::size_t at, char with, char without) {
        if ((mode >> bit & 1U) != 0) text[at] = text[at] == 'x' ? with : without;
    };
    special(11, 3, 's', 'S');  // set user id
    special(10, 6, 's', 'S');  // set group id
    special(9, 9, 't', 'T');   // only owners remove from it
    return text;
}

void tell_inode_facts(Record& record, std::uint64_t number, std::uint16_t mode, std::uint32_t uid, std::uint32_t gid) {
    record.facts.push_back({"inode", std::to_string(number)});
    record.facts.push_back({"mode", mode_text(mode)});
    record.facts.push_back({"owner", fmt::format("{}:{}", uid, gid)});
    if ((mode & kTypeMask) == kSymlinkType) record.attributes.emplace_back("symbolic link");
}

std::optional<std::uint16_t> permissions_of(const FileEntry& record) {
    constexpr std::size_t kLetters = 10;
    for (const Fact& fact : record.facts) {
        if (fact.name != "mode" || fact.value.size() != kLetters) continue;
        unsigned bits = 0;
        for (const char letter : fact.value.substr(1))
            bits = bits << 1 |
                   (letter == 'r' || letter == 'w' || letter == 'x' || letter == 's' || letter == 't' ? 1U : 0U);
        return static_cast<std::uint16_t>(bits);
    }
    return std::nullopt;
}

}  // namespace dredger
