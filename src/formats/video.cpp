#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& video() {
    static const std::vector<Format> family = {
        {"mov", Kind::video, {"mov", "qt"}, {{{4, "ftypqt  "sv}}, {{4, "moov"sv}}, {{4, "wide"sv}}, {{4, "mdat"sv}}}},
        {"3gp", Kind::video, {"3gp", "3g2"}, {{{4, "ftyp3g"sv}}}},
        {"mp4", Kind::video, {"mp4", "m4v"}, {{{4, "ftyp"sv}}}},
        {"avi", Kind::video, {"avi", "divx"}, {{{0, "RIFF"sv}, {8, "AVI "sv}}}},
        {"matroska", Kind::video, {"mkv", "webm", "mka"}, {{{0, "\x1A\x45\xDF\xA3"sv}}}},
        {"asf", Kind::video, {"wmv", "asf", "wma"}, {{{0, "\x30\x26\xB2\x75\x8E\x66\xCF\x11"sv}}}},
        {"flv", Kind::video, {"flv"}, {{{0, "FLV\1"sv}}}},
        {"mpeg-ps", Kind::video, {"mpg", "mpeg", "vob"}, {{{0, "\0\0\1\xBA"sv}}, {{0, "\0\0\1\xB3"sv}}}},
        {"mpeg-ts",
         Kind::video,
         {"ts", "mts", "m2ts"},
         {{{0, "\x47"sv}, {188, "\x47"sv}, {376, "\x47"sv}}, {{4, "\x47"sv}, {196, "\x47"sv}, {388, "\x47"sv}}}},
    };
    return family;
}

}  // namespace dredger::formats
