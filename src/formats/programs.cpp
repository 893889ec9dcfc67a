#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& programs() {
    static const std::vector<Format> family = {
        {"elf",
         Kind::other,
         {"elf", "so", "o"},
         {{{0,
            "\x7F"
            "ELF"sv}}}},
        {"pe", Kind::other, {"exe", "dll", "sys"}, {{{0, "MZ"sv}}}},
        {"font",
         Kind::other,
         {"ttf", "otf", "woff", "woff2"},
         {{{0, "\0\1\0\0\0"sv}}, {{0, "OTTO"sv}}, {{0, "wOFF"sv}}, {{0, "wOF2"sv}}, {{0, "true"sv}}}},
        {"lnk", Kind::other, {"lnk"}, {{{0, "L\0\0\0\1\x14\2\0"sv}}}},
        {"evtx", Kind::other, {"evtx"}, {{{0, "ElfFile\0"sv}}}},
    };
    return family;
}

}  // namespace dredger::formats
