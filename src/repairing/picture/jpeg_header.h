// What stands in front of a JPEG's picture data (ITU-T T.81, annex B), read so that damage to one segment costs no
// other.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "formats/jpeg_huffman.h"
#include "formats/reader.h"

namespace dredger::repairing {

struct JpegFrame {
    struct Component {
        std::uint8_t id = 0;
        unsigned across = 1, down = 1;  // sampling factors, 1 to 4
        unsigned quantization = 0;      // number of its table
    };
    std::uint8_t marker = 0xC0;  // of the frame header: C0 baseline, C1 extended, C2 progressive
    unsigned precision = 8;
    unsigned width = 0, height = 0;  // pixels
    std::vector<Component> components;

    bool is_progressive() const { return marker == 0xC2; }
    unsigned most_across() const;
    unsigned most_down() const;
    std::size_t mcus_across() const;
    std::size_t mcus_down() const;
};

struct JpegScan {
    struct Component {
        std::uint8_t id = 0;
        unsigned dc = 0, ac = 0;  // numbers of its tables
    };
    std::vector<Component> components;
};

struct JpegHeader {
    using Quantization = std::array<std::uint16_t, 64>;  // in zigzag order
    std::array<std::optional<Quantization>, 4> quantization;
    std::array<std::optional<formats::JpegHuffman>, 4> dc, ac;
    std::optional<JpegFrame> frame;
    std::optional<JpegScan> scan;
    unsigned restart_interval = 0;  // MCUs; 0: none

    std::uint64_t scan_at = 0;  // the marker of the scan header, byte of the content; 0: it is lost
    std::uint64_t data_at = 0;  // where the picture data begins; 0: that is not told
    std::uint64_t end = 0;      // behind the last segment that makes sense
    struct Segment {
        std::uint8_t marker;
        std::uint64_t at, length;  // of what it holds, bytes of the content
    };
    std::vector<Segment> foreign;     // to the picture: application data and comments, in order
    std::vector<std::string> damage;  // what was found wrong on the way to the picture data
    std::optional<Extent> thumbnail;  // a picture within the application data

    bool has_tables() const;  // those that its scan and frame ask for
};

JpegHeader read_jpeg_header(Reader& content);

// The tables that the specification gives as examples, which most cameras use (annex K.3).
void add_usual_huffman_tables(JpegHeader& header);
// Those of annex K.1, scaled.
void add_usual_quantization(JpegHeader& header, float scale);

}  // namespace dredger::repairing
