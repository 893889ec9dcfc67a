#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& pictures() {
    static const std::vector<Format> family = {
        {"jpeg", Kind::picture, {"jpg", "jpeg", "jpe", "jfif", "thm"}, {{{0, "\xFF\xD8\xFF"sv}}}},
        {"png", Kind::picture, {"png", "apng"}, {{{0, "\x89PNG\r\n\x1A\n"sv}}}},
        {"gif", Kind::picture, {"gif"}, {{{0, "GIF87a"sv}}, {{0, "GIF89a"sv}}}},
        // Bytes 6 to 9 are reserved and zero; a pixel-data offset below 64 KiB keeps plain text out.
        {"bmp", Kind::picture, {"bmp", "dib"}, {{{0, "BM"sv}, {6, "\0\0\0\0"sv}, {12, "\0\0"sv}}}},
        {"webp", Kind::picture, {"webp"}, {{{0, "RIFF"sv}, {8, "WEBP"sv}}}},
        {"heic",
         Kind::picture,
         {"heic", "heif", "avif"},
         {{{4, "ftypheic"sv}}, {{4, "ftypheix"sv}}, {{4, "ftypmif1"sv}}, {{4, "ftypavif"sv}}, {{4, "ftyphevc"sv}}}},
        {"cr2", Kind::picture, {"cr2"}, {{{0, "II*\0"sv}, {8, "CR\x02"sv}}}},
        {"cr3", Kind::picture, {"cr3"}, {{{4, "ftypcrx "sv}}}},
        {"raf", Kind::picture, {"raf"}, {{{0, "FUJIFILMCCD-RAW"sv}}}},
        {"orf", Kind::picture, {"orf"}, {{{0, "IIRO"sv}}, {{0, "IIRS"sv}}, {{0, "MMOR"sv}}}},
        {"rw2", Kind::picture, {"rw2"}, {{{0, "IIU\0"sv}}}},
        {"tiff",
         Kind::picture,
         {"tif", "tiff", "dng", "nef", "arw", "pef", "sr2", "nrw"},
         {{{0, "II*\0"sv}}, {{0, "MM\0*"sv}}}},
        {"psd", Kind::picture, {"psd", "psb"}, {{{0, "8BPS\0"sv}}}},
        {"ico", Kind::picture, {"ico", "cur"}, {{{0, "\0\0\1\0"sv}, {5, "\0"sv}}, {{0, "\0\0\2\0"sv}, {5, "\0"sv}}}},
        {"jpeg2000", Kind::picture, {"jp2", "jpf", "jpx"}, {{{0, "\0\0\0\x0CjP  \r\n\x87\n"sv}}}},
        {"jpegxl", Kind::picture, {"jxl"}, {{{0, "\0\0\0\x0CJXL \r\n\x87\n"sv}}, {{0, "\xFF\x0A"sv}}}},
        {"svg", Kind::picture, {"svg"}, {}, true},
    };
    return family;
}

}  // namespace dredger::formats
