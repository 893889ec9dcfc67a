#include "preview/film_libraries.h"

#include <fmt/format.h>

#include "preview/decoders.h"

namespace dredger::preview {

const Ffmpeg& ffmpeg() {
    static const Ffmpeg libraries;
    return libraries;
}

const Heif& heif() {
    static const Heif library;
    return library;
}

void load_decoders() {
    ffmpeg();
    heif();
}

std::vector<std::string> missing_decoders() {
    std::vector<std::string> missing;
    if (!ffmpeg().is_there())
        missing.push_back(fmt::format(
            "films, sounds and pictures other than JPEG are not looked into: install libavcodec{}, libavformat{}, "
            "libavutil{}, libswresample{} and libswscale{}",
            LIBAVCODEC_VERSION_MAJOR, LIBAVFORMAT_VERSION_MAJOR, LIBAVUTIL_VERSION_MAJOR, LIBSWRESAMPLE_VERSION_MAJOR,
            LIBSWSCALE_VERSION_MAJOR));
    if (!heif().is_there()) missing.emplace_back("HEIF pictures are not looked into: install libheif1");
    return missing;
}

}  // namespace dredger::preview
