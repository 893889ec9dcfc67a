#include "repairing/picture/jpeg_scan_data.h"

#include <algorithm>
#include <cstdlib>

namespace dredger::repairing {
namespace {

constexpr std::size_t kLeastZeros = 48;          // bytes: no picture's codes are zeros for so long
constexpr std::uint64_t kMostBehind = 64 << 10;  // bytes that may follow the end of a picture
constexpr std::size_t kTail = 7;                 // bits that fill the last byte

void add_damage(std::vector<Extent>& damage, std::size_t from, std::size_t to) {
    if (!damage.empty() && damage.back().end() >= from)
        damage.back().length = std::max<std::uint64_t>(damage.back().end(), to) - damage.back().offset;
    else
        damage.push_back({from, to - from});
}

// With tables of their own, blocks that are all the same can come as zeros.
bool zeros_are_codes(const JpegHeader& header) {
    return std::all_of(header.scan->components.begin(), header.scan->components.end(),
                       [&](const JpegScan::Component& one) {
                           const auto dc = header.dc[one.dc]->decode(0);
                           const auto ac = header.ac[one.ac]->decode(0);
                           return dc.bits != 0 && dc.symbol == 0 && ac.bits != 0 && ac.symbol == 0;
                       });
}

// Where the marker stands with which the content ends, but for zeros.
std::optional<std::uint64_t> last_end(Reader& content) {
    const std::uint64_t from = content.size() - std::min(content.size(), kMostBehind);
    const std::string tail = content.text(from, static_cast<std::size_t>(kMostBehind));
    const std::size_t last = tail.find_last_not_of('\0');
    if (last == std::string::npos || last == 0 || tail.compare(last - 1, 2, "\xFF\xD9") != 0) return std::nullopt;
    return from + last - 1;
}

}  // namespace

JpegScanData read_scan_data(Reader& content, const JpegHeader& header, std::span<const Extent> holes) {
    const std::uint64_t at = header.data_at;
    const bool has_restarts = header.restart_interval != 0;
    const std::optional<std::uint64_t> end = last_end(content);
    const std::size_t least_zeros = zeros_are_codes(header) ? ~std::size_t{0} : kLeastZeros;
    JpegScanData data;
    std::vector<Extent> foreign;
    std::size_t zeros = 0;
    std::uint64_t place = at;
    bool was_ff = false;
    const auto is_hole = [&](std::uint64_t byte) {
        while (!holes.empty() && holes.front().end() <= byte) holes = holes.subspan(1);
        return !holes.empty() && holes.front().offset <= byte;
    };
    while (content.holds(place, 1)) {
        const auto here = content.some(place);
        if (here.empty()) break;
        const std::vector<std::byte> copy(here.begin(), here.end());
        for (std::size_t i = 0; i < copy.size(); ++i, ++place) {
            const auto byte = std::to_integer<std::uint8_t>(copy[i]);
            if (was_ff) {
                was_ff = byte == 0xFF;
                if (byte == 0xFF) continue;
                if (byte == 0) {
                    data.bytes.push_back(0xFF);
                    zeros = 0;
                    continue;
                }
                if (byte >= 0xD0 && byte <= 0xD7 && has_restarts) {
                    data.marks.push_back({data.bytes.size(), byte & 7U});
                    continue;
                }
                const std::uint64_t behind = content.size() - place - 1;
                const bool is_near_end = behind <= kMostBehind || behind <= (place - at) / 8;
                if (byte == 0xD9 && ((is_near_end && place > end.value_or(0)) || content.has(place + 1, "\xFF\xD8"))) {
                    data.has_end = true;
                    data.damage = std::move(foreign);
                    return data;
                }
                add_damage(foreign, data.bytes.size(), data.bytes.size() + 1);
                data.bytes.push_back(0xFF);
            } else if (byte == 0xFF) {
                was_ff = true;
                continue;
            }
            zeros = byte == 0 ? zeros + 1 : 0;
            data.bytes.push_back(byte);
            if (zeros >= least_zeros) add_damage(foreign, data.bytes.size() - zeros, data.bytes.size());
            if (is_hole(place)) add_damage(foreign, data.bytes.size() - 1, data.bytes.size());
        }
    }
    // Zeros up to the end are no data.
    if (zeros >= least_zeros) data.bytes.resize(data.bytes.size() - zeros);
    while (!foreign.empty() && foreign.back().offset >= data.bytes.size()) foreign.pop_back();
    data.damage = std::move(foreign);
    return data;
}

McuDecoder::McuDecoder(const JpegHeader& header, std::span<const std::uint8_t> bytes) : bytes_(bytes) {
    const JpegFrame& frame = *header.frame;
    const bool is_single = frame.components.size() == 1;
    for (std::size_t c = 0; c < frame.components.size(); ++c) {
        const JpegFrame::Component& component = frame.components[c];
        const auto& quantization = *header.quantization[component.quantization];
        for (std::size_t k = 0; k < 64; ++k) most_[c][k] = 2048 / quantization[k] + 2;
        most_dc_[c] = 2200 / quantization[0] + 2;
        const auto tables = std::find_if(header.scan->components.begin(), header.scan->components.end(),
                                         [&](const JpegScan::Component& one) { return one.id == component.id; });
        if (tables == header.scan->components.end()) continue;
        const unsigned blocks = is_single ? 1 : component.across * component.down;
        sequence_.insert(sequence_.end(), blocks, Block{c, &*header.dc[tables->dc], &*header.ac[tables->ac]});
    }
}

std::uint32_t McuDecoder::peek16(std::size_t bit) const {
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < 3; ++i) {
        const std::size_t at = bit / 8 + i;
        value = value << 8 | (at < bytes_.size() ? bytes_[at] : 0U);
    }
    return value >> (8 - bit % 8) & 0xFFFFU;
}

bool McuDecoder::decode_block(const Block& block, std::size_t& bit, std::size_t end, Sums& sums,
                              JpegBlock* into) const {
    const auto value_of = [&](unsigned size) {
        const int bits = static_cast<int>(peek16(bit) >> (16 - size));
        bit += size;
        return bits < 1 << (size - 1) ? bits - (1 << size) + 1 : bits;
    };
    const formats::JpegHuffman::Entry first = block.dc->decode(peek16(bit));
    if (first.bits == 0 || first.symbol > 11) return false;
    bit += first.bits;
    const std::size_t c = block.component;
    if (first.symbol > 0) sums.now[c] += value_of(first.symbol);
    sums.least[c] = std::min(sums.least[c], sums.now[c]);
    sums.most[c] = std::max(sums.most[c], sums.now[c]);
    if (sums.most[c] - sums.least[c] > most_dc_[c]) return false;
    if (into != nullptr) {
        into->fill(0);
        (*into)[0] = static_cast<std::int16_t>(sums.now[c]);
    }
    for (unsigned k = 1; k < 64; ++k) {
        const formats::JpegHuffman::Entry entry = block.ac->decode(peek16(bit));
        if (entry.bits == 0 || bit > end) return false;
        bit += entry.bits;
        const unsigned run = entry.symbol >> 4;
        const unsigned size = entry.symbol & 15U;
        if (size == 0) {
            if (run == 0) break;
            if (run != 15) return false;
            k += 15;
            if (k > 63) return false;
            continue;
        }
        k += run;
        if (k > 63 || size > 10) return false;
        const int value = value_of(size);
        if (std::abs(value) > most_[c][k]) return false;
        if (into != nullptr) (*into)[kZigzag[k]] = static_cast<std::int16_t>(value);
    }
    return bit <= end;
}

// Whether nothing but the filling of the last byte is left, which is ones.
bool McuDecoder::is_end(std::size_t bit, std::size_t end) const {
    if (bit > end || end - bit > kTail) return false;
    const std::uint32_t filling = peek16(bit) >> (16 - (end - bit));
    return end == bit || filling == (1U << (end - bit)) - 1;
}

McuDecoder::Run McuDecoder::decode(Place place, std::size_t end, std::size_t most, bool in_step) const {
    Run run;
    run.end = place.bit;
    Sums sums;
    std::size_t bit = place.bit;
    for (std::size_t phase = place.phase; phase != 0; phase = (phase + 1) % sequence_.size())
        if (!decode_block(sequence_[phase], bit, end, sums, nullptr)) {
            run.broke = true;
            return run;
        }
    run.end = bit;
    while (run.mcus() < most && !is_end(bit, end)) {
        const std::size_t start = bit;
        if (!in_step && run.mcus() == kOutOfStep) sums.least = sums.most = sums.now;
        for (const Block& block : sequence_) {
            run.blocks.emplace_back();
            if (decode_block(block, bit, end, sums, &run.blocks.back())) continue;
            run.blocks.resize(run.mcus() * sequence_.size());
            run.broke = true;
            return run;
        }
        run.starts.push_back(start);
        run.end = bit;
    }
    return run;
}

// Looks for places from which on decoding makes sense. What was tried leads nowhere: whatever comes to the same place
// does not, either.
class McuDecoder::SenseSearch {
  public:
    SenseSearch(const McuDecoder& decoder, std::size_t from, std::size_t end, std::size_t least)
        : decoder_(decoder),
          from_(from),
          end_(end),
          phases_(decoder.sequence_.size()),
          wanted_(least * phases_),
          tried_(end > from ? (end - from + 1) * phases_ : 0) {}

    std::optional<Place> first_in(std::size_t from, std::size_t to) {
        for (std::size_t start = from; start < to; ++start)
            for (std::size_t phase = 0; phase < phases_; ++phase)
                if (makes_sense({start, phase})) return Place{start, phase};
        return std::nullopt;
    }

  private:
    bool makes_sense(Place place) {
        const std::size_t few = 4 * phases_;
        Sums sums;
        for (std::size_t blocks = 0; blocks < wanted_;) {
            if (place.bit > end_ || !is_new(place)) return false;
            if (!decoder_.decode_block(decoder_.sequence_[place.phase], place.bit, end_, sums, nullptr)) return false;
            ++blocks;
            place.phase = (place.phase + 1) % phases_;
            if (place.phase == 0 && blocks >= few && decoder_.is_end(place.bit, end_)) return true;
        }
        return true;
    }

    bool is_new(const Place& place) {
        const std::size_t which = (place.bit - from_) * phases_ + place.phase;
        if (tried_[which]) return false;
        tried_[which] = true;
        return true;
    }

    const McuDecoder& decoder_;
    std::size_t from_, end_, phases_, wanted_;
    std::vector<bool> tried_;
};

std::optional<McuDecoder::Place> McuDecoder::find_sense(std::size_t from, std::size_t end, std::size_t least,
                                                        const std::function<bool()>& should_stop,
                                                        std::size_t reach) const {
    constexpr std::size_t kDense = 1 << 17;  // bits that are all tried
    constexpr std::size_t kStep = 4096;      // bits; what is foreign for longer is so by whole sectors
    constexpr std::size_t kProbe = 384;      // bits that are tried at each step
    const std::size_t stop = reach < end - std::min(from, end) ? from + reach : end;
    SenseSearch search(*this, from, end, least);
    std::size_t at = from;
    for (; at < stop && at - from < kDense; at += kStep) {
        if (should_stop()) return std::nullopt;
        if (const auto place = search.first_in(at, std::min(stop, at + kStep))) return place;
    }
    for (; at < stop; at += kStep) {
        if (should_stop()) return std::nullopt;
        const auto place = search.first_in(at, std::min(stop, at + kProbe));
        if (!place) continue;
        const auto earlier = search.first_in(at - kStep + kProbe, at);
        return earlier ? earlier : place;
    }
    return std::nullopt;
}

}  // namespace dredger::repairing
