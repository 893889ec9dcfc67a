#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& archives() {
    static const std::vector<Format> family = {
        {"zip", Kind::archive, {"zip", "jar", "apk"}, {{{0, "PK\3\4"sv}}, {{0, "PK\5\6"sv}}}},
        {"rar", Kind::archive, {"rar"}, {{{0, "Rar!\x1A\7\0"sv}}, {{0, "Rar!\x1A\7\1\0"sv}}}},
        {"7z", Kind::archive, {"7z"}, {{{0, "7z\xBC\xAF\x27\x1C"sv}}}},
        {"gzip", Kind::archive, {"gz", "tgz"}, {{{0, "\x1F\x8B\x08"sv}}}},
        {"bzip2", Kind::archive, {"bz2", "tbz2"}, {{{0, "BZh"sv}, {4, "1AY&SY"sv}}}},
        {"xz", Kind::archive, {"xz", "txz"}, {{{0, "\xFD\x37zXZ\0"sv}}}},
        {"zstd", Kind::archive, {"zst"}, {{{0, "\x28\xB5\x2F\xFD"sv}}}},
        {"tar", Kind::archive, {"tar"}, {{{257, "ustar"sv}}}},
        {"cab", Kind::archive, {"cab"}, {{{0, "MSCF\0\0\0\0"sv}}}},
        {"iso9660", Kind::archive, {"iso"}, {{{32769, "CD001"sv}}}},
    };
    return family;
}

}  // namespace dredger::formats
