// The format families. Each is defined in the file of its name; registry.cpp lists them.
#pragma once

#include <algorithm>
#include <vector>

#include "formats/format.h"

namespace dredger::formats {

using namespace std::string_view_literals;

// Measures by the walk that tells the parts, without telling them to anybody.
template <Measured (*TakeApart)(Reader&, const PartSink&)>
Measured measure_by(Reader& content) {
    return TakeApart(content, {});
}

const std::vector<Format>& jpeg();
const std::vector<Format>& png();
const std::vector<Format>& gif();
const std::vector<Format>& bitmaps();
const std::vector<Format>& tiff();
const std::vector<Format>& riff();
const std::vector<Format>& isobmff();
const std::vector<Format>& matroska();
const std::vector<Format>& mpeg();
const std::vector<Format>& streaming();
const std::vector<Format>& mpeg_audio();
const std::vector<Format>& sound();
const std::vector<Format>& pdf();
const std::vector<Format>& zip();
const std::vector<Format>& ole2();
const std::vector<Format>& archives();
const std::vector<Format>& packed();
const std::vector<Format>& databases();
const std::vector<Format>& programs();
const std::vector<Format>& text();

}  // namespace dredger::formats
