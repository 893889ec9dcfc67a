// Tags that stand behind sound, whatever its format: APE (2.0), Lyrics3 and ID3v1.
#pragma once

#include "formats/reader.h"

namespace dredger::formats {

// Where they end that begin at `at`; `at` where there are none.
std::uint64_t behind_sound_tags(Reader& content, std::uint64_t at);

}  // namespace dredger::formats
