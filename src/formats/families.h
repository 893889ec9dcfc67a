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

// What a header says is `end` bytes long. Where the content ends before, nothing but the header is sure.
inline Measured sized(Reader& content, std::uint64_t end, Proof proof, std::string_view format = {}) {
    constexpr std::uint64_t kHeader = 512;
    return content.holds(0, end) ? whole(end, proof, format)
                                 : broken(std::min(content.size(), kHeader), "its end is missing", end, format);
}

// The proof of content of `length` bytes of which all but `unchecked` were decoded or summed. A damaged sector hides in
// what is told by its length alone; where that is little it is hardly ever the one that was damaged.
inline Proof proof_without(std::uint64_t unchecked, std::uint64_t length) {
    return unchecked <= length / 16 ? Proof::checksums : Proof::chain;
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
const std::vector<Format>& fonts();
const std::vector<Format>& jpeg2000();
const std::vector<Format>& images();
const std::vector<Format>& scans();
const std::vector<Format>& drawings();
const std::vector<Format>& models();
const std::vector<Format>& music();
const std::vector<Format>& broadcast();
const std::vector<Format>& old_archives();
const std::vector<Format>& disks();
const std::vector<Format>& books();
const std::vector<Format>& compiled();
const std::vector<Format>& system_files();
const std::vector<Format>& tga();
const std::vector<Format>& netpbm();
const std::vector<Format>& stl();
const std::vector<Format>& keys();
const std::vector<Format>& design();
const std::vector<Format>& compress();
const std::vector<Format>& pyc();
const std::vector<Format>& page_stores();
const std::vector<Format>& regions();
const std::vector<Format>& text();

}  // namespace dredger::formats
