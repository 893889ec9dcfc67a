#include "preview/film_libraries.h"

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

}  // namespace dredger::preview
