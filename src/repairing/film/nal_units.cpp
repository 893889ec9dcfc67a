#include "repairing/film/nal_units.h"

#include <algorithm>

#include "repairing/film/bit_reader.h"

namespace dredger::repairing {
namespace {

constexpr std::size_t kHeader = 256;  // bytes of a unit in which all lies that is read of it

// Without the bytes that keep start codes out (7.4.1).
std::vector<std::uint8_t> unescaped(std::span<const std::uint8_t> unit, std::size_t most = kHeader) {
    std::vector<std::uint8_t> plain;
    unsigned zeros = 0;
    for (const std::uint8_t byte : unit.first(std::min(unit.size(), most))) {
        if (zeros >= 2 && byte == 3) {
            zeros = 0;
            continue;
        }
        zeros = byte == 0 ? zeros + 1 : 0;
        plain.push_back(byte);
    }
    return plain;
}

std::uint16_t u16(std::span<const std::uint8_t> bytes, std::size_t at) {
    return at + 2 <= bytes.size() ? static_cast<std::uint16_t>(bytes[at] << 8 | bytes[at + 1]) : std::uint16_t{0};
}

void skip_scaling_lists(BitReader& reader, unsigned lists) {
    for (unsigned i = 0; i < lists; ++i) {
        if (!reader.bit()) continue;
        int last = 8;
        int next = 8;
        for (unsigned k = 0; k < (i < 6 ? 16U : 64U); ++k) {
            if (next != 0) next = (last + reader.se() + 256) % 256;
            if (next != 0) last = next;
        }
    }
}

// The sequence parameters of H.264 up to what slice headers need (7.3.2.1.1).
void read_avc_sequence(std::span<const std::uint8_t> unit, AvcSetup& setup) {
    const std::vector<std::uint8_t> plain = unescaped(unit, 1024);
    BitReader reader(plain);
    reader.skip(8);
    const std::uint32_t profile = reader.bits(8);
    reader.skip(16);
    reader.ue();
    constexpr std::uint32_t kHigh[] = {100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135};
    if (std::find(std::begin(kHigh), std::end(kHigh), profile) != std::end(kHigh)) {
        const std::uint32_t chroma = reader.ue();
        if (chroma == 3) setup.separate_planes = reader.bit();
        reader.ue();
        reader.ue();
        reader.skip(1);
        if (reader.bit()) skip_scaling_lists(reader, chroma == 3 ? 12 : 8);
    }
    setup.frame_number_bits = std::min(reader.ue() + 4, std::uint32_t{16});
    setup.order_type = reader.ue();
    if (setup.order_type == 0) {
        setup.order_bits = std::min(reader.ue() + 4, std::uint32_t{16});
    } else if (setup.order_type == 1) {
        reader.skip(1);
        reader.se();
        reader.se();
        for (std::uint32_t left = std::min(reader.ue(), std::uint32_t{255}); left > 0; --left) reader.se();
    }
    reader.ue();
    reader.skip(1);
    reader.ue();
    reader.ue();
    setup.frames_only = reader.bit();
}

void skip_profile(BitReader& reader, unsigned layers) {
    reader.skip(88);
    reader.skip(8);
    bool has_profile[8] = {};
    bool has_level[8] = {};
    for (unsigned i = 0; i < layers; ++i) {
        has_profile[i] = reader.bit();
        has_level[i] = reader.bit();
    }
    if (layers > 0) reader.skip(std::size_t{8 - layers} * 2);
    for (unsigned i = 0; i < layers; ++i) {
        if (has_profile[i]) reader.skip(88);
        if (has_level[i]) reader.skip(8);
    }
}

void read_hevc_sequence(std::span<const std::uint8_t> unit, HevcSetup& setup) {
    const std::vector<std::uint8_t> plain = unescaped(unit, 1024);
    BitReader reader(plain);
    reader.skip(16 + 4);
    const unsigned layers = reader.bits(3);
    reader.skip(1);
    skip_profile(reader, layers);
    reader.ue();
    if (reader.ue() == 3) setup.separate_planes = reader.bit();
    reader.ue();
    reader.ue();
    if (reader.bit())
        for (unsigned i = 0; i < 4; ++i) reader.ue();
    reader.ue();
    reader.ue();
    setup.order_bits = std::min(reader.ue() + 4, std::uint32_t{16});
}

void read_hevc_picture(std::span<const std::uint8_t> unit, HevcSetup& setup) {
    const std::vector<std::uint8_t> plain = unescaped(unit);
    BitReader reader(plain);
    reader.skip(16);
    reader.ue();
    reader.ue();
    reader.skip(1);
    setup.has_output_flag = reader.bit();
    setup.extra_slice_bits = reader.bits(3);
}

// Units that hold no picture are short, or all of one byte: what else passes for one is the beginning of something
// else.
constexpr std::size_t kLongestSet = 4096, kLongestMessage = 64 << 10;  // bytes
bool is_filler(std::span<const std::uint8_t> unit, std::size_t header) {
    return unit.size() > header && unit.back() == 0x80 &&
           std::all_of(unit.begin() + static_cast<std::ptrdiff_t>(header), unit.end() - 1,
                       [](std::uint8_t byte) { return byte == 0xFF; });
}

bool is_avc_size(unsigned type, std::span<const std::uint8_t> unit) {
    switch (type) {
        case 6: return unit.size() <= kLongestMessage && unit.back() == 0x80;
        case 7:
        case 8:
        case 13:
        case 15: return unit.size() <= kLongestSet;
        case 9:
        case 14: return unit.size() <= 16;
        case 10:
        case 11: return unit.size() <= 2;
        case 12: return is_filler(unit, 1);
        default: return true;
    }
}

bool is_hevc_size(unsigned type, std::span<const std::uint8_t> unit) {
    switch (type) {
        case 32:
        case 33:
        case 34: return unit.size() <= kLongestSet;
        case 35: return unit.size() == 3;
        case 36:
        case 37: return unit.size() <= 3;
        case 38: return is_filler(unit, 2);
        case 39:
        case 40: return unit.size() <= kLongestMessage && unit.back() == 0x80;
        default: return true;
    }
}

}  // namespace

AvcSetup avc_setup(std::span<const std::uint8_t> record) {
    AvcSetup setup;
    if (record.size() < 8) return setup;
    setup.length_bytes = (record[4] & 3U) + 1;
    const std::size_t length = u16(record, 6);
    if ((record[5] & 31U) > 0 && 8 + length <= record.size()) read_avc_sequence(record.subspan(8, length), setup);
    return setup;
}

HevcSetup hevc_setup(std::span<const std::uint8_t> record) {
    HevcSetup setup;
    if (record.size() < 23) return setup;
    setup.length_bytes = (record[21] & 3U) + 1;
    std::size_t at = 23;
    for (unsigned array = 0; array < record[22] && at + 3 <= record.size(); ++array) {
        const unsigned type = record[at] & 63U;
        const unsigned count = u16(record, at + 1);
        at += 3;
        for (unsigned i = 0; i < count && at + 2 <= record.size(); ++i) {
            const std::size_t length = u16(record, at);
            at += 2;
            if (at + length > record.size()) return setup;
            if (type == 33) read_hevc_sequence(record.subspan(at, length), setup);
            if (type == 34) read_hevc_picture(record.subspan(at, length), setup);
            at += length;
        }
    }
    return setup;
}

NalUnit avc_unit(std::span<const std::uint8_t> unit) {
    NalUnit found;
    if (unit.size() < 2 || (unit[0] & 0x80U) != 0) return found;
    const unsigned type = unit[0] & 31U;
    const unsigned importance = unit[0] >> 5 & 3U;
    const bool must_matter = type == 5 || type == 7 || type == 8;
    const bool must_not = type == 6 || (type >= 9 && type <= 12);
    // Partitions, layers and further views are in no film.
    const bool is_known = type == 1 || (type >= 5 && type <= 15);
    if (!is_known || (must_matter && importance == 0) || (must_not && importance != 0) || !is_avc_size(type, unit))
        return found;
    found.is_slice = type == 1 || type == 5;
    found.is_sync = type == 5;
    found.may_follow_slice = found.is_slice || (type >= 10 && type <= 12);
    if (type == 1 || type == 5) {
        BitReader reader(unit.subspan(1).first(std::min<std::size_t>(unit.size() - 1, 16)));
        const std::uint32_t first = reader.ue();
        const std::uint32_t kind = reader.ue();
        if (first > 1 << 20 || kind > 9 || reader.ue() > 255) return found;
        if (type == 5 && kind % 5 != 2 && kind % 5 != 4) return found;
        found.begins_picture = first == 0;
        if (unit.back() == 0) return found;  // the last bit of a unit is a one
    }
    found.is_valid = true;
    return found;
}

NalUnit hevc_unit(std::span<const std::uint8_t> unit) {
    NalUnit found;
    if (unit.size() < 3 || (unit[0] & 0x81U) != 0 || (unit[1] & 0xF8U) != 0 || (unit[1] & 7U) == 0) return found;
    const unsigned type = unit[0] >> 1 & 63U;
    if ((type > 9 && type < 16) || (type > 21 && type < 32) || type > 40 || !is_hevc_size(type, unit)) return found;
    found.is_slice = type < 32;
    found.is_sync = type >= 16 && type <= 21;
    found.may_follow_slice = found.is_slice || type == 36 || type == 37 || type == 38 || type == 40;
    found.begins_picture = found.is_slice && (unit[2] & 0x80U) != 0;
    found.is_valid = !found.is_slice || unit.back() != 0;
    return found;
}

std::optional<unsigned> avc_order(std::span<const std::uint8_t> slice, const AvcSetup& setup) {
    if (setup.order_type != 0) return std::nullopt;
    const std::vector<std::uint8_t> plain = unescaped(slice, 64);
    BitReader reader(plain);
    const unsigned type = reader.bits(8) & 31U;
    reader.ue();
    reader.ue();
    reader.ue();
    if (setup.separate_planes) reader.skip(2);
    reader.skip(setup.frame_number_bits);
    if (!setup.frames_only && reader.bit()) reader.skip(1);
    if (type == 5) reader.ue();
    const unsigned order = reader.bits(setup.order_bits);
    return reader.ok() ? std::optional(order) : std::nullopt;
}

std::optional<unsigned> hevc_order(std::span<const std::uint8_t> slice, const HevcSetup& setup) {
    const std::vector<std::uint8_t> plain = unescaped(slice, 64);
    BitReader reader(plain);
    const unsigned type = reader.bits(8) >> 1 & 63U;
    reader.skip(8);
    if (type == 19 || type == 20) return 0;  // such pictures are the first of theirs
    if (!reader.bit()) return std::nullopt;
    if (type >= 16 && type <= 23) reader.skip(1);
    reader.ue();
    reader.skip(setup.extra_slice_bits);
    reader.ue();
    if (setup.has_output_flag) reader.skip(1);
    if (setup.separate_planes) reader.skip(2);
    const unsigned order = reader.bits(setup.order_bits);
    return reader.ok() ? std::optional(order) : std::nullopt;
}

}  // namespace dredger::repairing
