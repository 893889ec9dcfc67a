// What cameras write beside a picture: Exif 2.32 in TIFF directories (TIFF 6.0), as far as it names the picture.
#pragma once

#include "formats/format.h"

namespace dredger::formats {

// Adds camera, date and size that the directories behind the TIFF header at `header` tell.
void describe_exif(Reader& content, std::uint64_t header, Description& said);

// Makes "2026-05-03 09.12.44 CAMERA" of the date and the camera, where nothing better is known.
void title_from_camera(Description& said);

}  // namespace dredger::formats
