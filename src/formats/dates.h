// Dates as documents write them down of themselves.
#pragma once

#include <optional>
#include <string_view>

#include "base/times.h"

namespace dredger::formats {

// "2026-05-03T09:12:44Z", "2026-05-03T11:12:44.5+02:00", "2026-05-03" (XML Schema, W3CDTF): UTC where a zone is told,
// else the digits of a local clock.
std::optional<FileTime> xml_date(std::string_view text);

// "2026:05:03 09:12:44" as cameras and TIFF write it.
std::optional<FileTime> exif_time(std::string_view text);

// "D:20260503111244+02'00'", cut anywhere behind the year (ISO 32000-1, 7.9.4).
std::optional<FileTime> pdf_date(std::string_view text);

}  // namespace dredger::formats
