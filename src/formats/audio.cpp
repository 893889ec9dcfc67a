#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& audio() {
    static const std::vector<Format> family = {
        {"mp3",
         Kind::audio,
         {"mp3"},
         {{{0, "ID3"sv}}, {{0, "\xFF\xFB"sv}}, {{0, "\xFF\xFA"sv}}, {{0, "\xFF\xF3"sv}}, {{0, "\xFF\xF2"sv}}}},
        {"wav", Kind::audio, {"wav", "bwf"}, {{{0, "RIFF"sv}, {8, "WAVE"sv}}, {{0, "RF64"sv}, {8, "WAVE"sv}}}},
        {"flac", Kind::audio, {"flac"}, {{{0, "fLaC"sv}}}},
        {"ogg", Kind::audio, {"ogg", "oga", "opus", "ogv"}, {{{0, "OggS\0"sv}}}},
        {"m4a", Kind::audio, {"m4a", "m4b"}, {{{4, "ftypM4A"sv}}, {{4, "ftypM4B"sv}}, {{4, "ftyp"sv}}}},
        {"aac", Kind::audio, {"aac"}, {{{0, "\xFF\xF1"sv}}, {{0, "\xFF\xF9"sv}}}},
        {"aiff", Kind::audio, {"aif", "aiff", "aifc"}, {{{0, "FORM"sv}, {8, "AIF"sv}}}},
        {"amr", Kind::audio, {"amr"}, {{{0, "#!AMR"sv}}}},
        {"midi", Kind::audio, {"mid", "midi"}, {{{0, "MThd\0\0\0\6"sv}}}},
    };
    return family;
}

}  // namespace dredger::formats
