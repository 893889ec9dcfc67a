#include "media/lzfse.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <optional>
#include <vector>

#include "base/bytes.h"

namespace dredger {
namespace {

// What comes out: literals, and copies of what came out before.
class Output {
  public:
    explicit Output(std::span<std::byte> into) : into_(into) {}

    std::size_t size() const { return size_; }
    bool is_full() const { return size_ == into_.size(); }

    // What there is no room for is left out.
    void put(std::span<const std::byte> literals) {
        const std::size_t length = std::min(literals.size(), into_.size() - size_);
        std::copy_n(literals.begin(), length, into_.begin() + static_cast<std::ptrdiff_t>(size_));
        size_ += length;
    }
    // False: so far back there is nothing.
    bool copy(std::size_t distance, std::size_t length) {
        if (length == 0) return true;
        if (distance == 0 || distance > size_) return false;
        for (length = std::min(length, into_.size() - size_); length > 0; --length, ++size_)
            into_[size_] = into_[size_ - distance];
        return true;
    }

  private:
    std::span<std::byte> into_;
    std::size_t size_ = 0;
};

// ---- LZVN

struct Opcode {
    std::size_t length = 0;  // bytes
    std::size_t literals = 0, match = 0;
    std::optional<std::size_t> distance;  // none: as before
};

// None: the end of the stream, or no opcode.
std::optional<Opcode> opcode_at(std::span<const std::byte> packed) {
    if (packed.empty()) return std::nullopt;
    const auto byte = [&](std::size_t at) { return std::to_integer<std::size_t>(packed[at]); };
    const std::size_t code = byte(0), literals = code >> 6, match = (code >> 3 & 7) + 3;
    const auto has = [&](std::size_t length) { return packed.size() >= length; };
    switch (code >> 4) {
        case 0xF:
            if (code != 0xF0) return Opcode{1, 0, code & 15, {}};
            return has(2) ? std::optional(Opcode{2, 0, byte(1) + 16, {}}) : std::nullopt;
        case 0xE:
            if (code != 0xE0) return Opcode{1, code & 15, 0, {}};
            return has(2) ? std::optional(Opcode{2, byte(1) + 16, 0, {}}) : std::nullopt;
        case 0xA:
        case 0xB:
            if (!has(3)) return std::nullopt;
            return Opcode{3, code >> 3 & 3, ((code & 7) << 2 | (byte(1) & 3)) + 3, byte(2) << 6 | byte(1) >> 2};
        case 0x7:
        case 0xD: return std::nullopt;
        default: break;
    }
    if ((code & 7) == 7)
        return has(3) ? std::optional(Opcode{3, literals, match, byte(2) << 8 | byte(1)}) : std::nullopt;
    if ((code & 7) != 6)
        return has(2) ? std::optional(Opcode{2, literals, match, (code & 7) << 8 | byte(1)}) : std::nullopt;
    if (literals > 0) return Opcode{1, literals, match, {}};
    constexpr std::size_t kNothing[] = {0x0E, 0x16};
    if (code == kNothing[0] || code == kNothing[1]) return Opcode{1, 0, 0, {}};
    return std::nullopt;
}

void unpack_lzvn(std::span<const std::byte> packed, Output& output) {
    std::size_t distance = 0;
    while (!output.is_full()) {
        const auto opcode = opcode_at(packed);
        if (!opcode) return;
        packed = packed.subspan(opcode->length);
        const std::size_t literals = std::min(opcode->literals, packed.size());
        output.put(packed.first(literals));
        packed = packed.subspan(literals);
        distance = opcode->distance.value_or(distance);
        if (literals < opcode->literals || !output.copy(distance, opcode->match)) return;
    }
}

// ---- LZFSE: literals, lengths and distances coded by finite state entropy

constexpr std::size_t kLiteralSymbols = 256, kLengthSymbols = 20, kDistanceSymbols = 64;
constexpr std::size_t kLiteralStates = 1024, kLengthStates = 64, kDistanceStates = 256;
constexpr std::size_t kTableSymbols = 2 * kLengthSymbols + kDistanceSymbols + kLiteralSymbols;

// How many bits follow a symbol, and what it stands for with none of them set.
struct Meaning {
    std::uint8_t bits;
    std::uint32_t base;
};
template <std::size_t kCount>
constexpr std::array<Meaning, kCount> meanings(const std::array<std::uint8_t, kCount>& bits) {
    std::array<Meaning, kCount> list{};
    std::uint32_t base = 0;
    for (std::size_t i = 0; i < kCount; base += std::uint32_t{1} << bits[i], ++i) list[i] = {bits[i], base};
    return list;
}
constexpr std::array<std::uint8_t, kDistanceSymbols> distance_bits() {
    std::array<std::uint8_t, kDistanceSymbols> bits{};
    for (std::size_t i = 0; i < bits.size(); ++i) bits[i] = static_cast<std::uint8_t>(i / 4);
    return bits;
}
constexpr auto kLiteralRuns = meanings<kLengthSymbols>({0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 3, 5, 8});
constexpr auto kMatchLengths = meanings<kLengthSymbols>({0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 3, 5, 8, 11});
constexpr auto kDistances = meanings<kDistanceSymbols>(distance_bits());

// Bits are taken from the end of the bytes towards their start.
class BackwardBits {
  public:
    // `spare`: bits at the very end that are not used, 0 .. 7.
    BackwardBits(std::span<const std::byte> bytes, unsigned spare)
        : bytes_(bytes), left_(bytes.size() * 8 - std::min<std::size_t>(spare, bytes.size() * 8)) {}

    std::uint32_t pull(unsigned count) {
        if (count > left_) ok_ = false;
        if (!ok_ || count == 0) return 0;
        left_ -= count;
        std::uint64_t window = 0;
        const std::size_t first = left_ / 8;
        for (std::size_t i = 0; i < 5 && first + i < bytes_.size(); ++i)
            window |= std::to_integer<std::uint64_t>(bytes_[first + i]) << (8 * i);
        return static_cast<std::uint32_t>(window >> (left_ % 8) & ((std::uint64_t{1} << count) - 1));
    }
    bool ok() const { return ok_; }

  private:
    std::span<const std::byte> bytes_;
    std::size_t left_;  // bits
    bool ok_ = true;
};

class StateTable {
  public:
    // None where the frequencies don't fit the number of states.
    static std::optional<StateTable> of(std::span<const std::uint16_t> frequencies, std::size_t states) {
        StateTable table;
        std::size_t sum = 0;
        for (std::size_t symbol = 0; symbol < frequencies.size(); ++symbol) {
            const std::uint32_t f = frequencies[symbol];
            if (f == 0) continue;
            sum += f;
            if (sum > states) return std::nullopt;
            const auto n = static_cast<std::uint32_t>(states);
            const auto k = static_cast<unsigned>(std::countl_zero(f) - std::countl_zero(n));
            const std::uint32_t wide = (2 * n >> k) - f;  // so many take the larger number of bits
            for (std::uint32_t j = 0; j < f; ++j)
                table.entries_.push_back(j < wide ? Entry{k, ((f + j) << k) - n, symbol}
                                                  : Entry{k - 1, (j - wide) << (k - 1), symbol});
        }
        // States that no symbol has are never reached by a sound stream.
        table.entries_.resize(states);
        return table;
    }

    std::size_t next(std::size_t& state, BackwardBits& bits) const {
        const Entry& entry = entries_[state % entries_.size()];
        state = entry.delta + bits.pull(entry.bits);
        return entry.symbol;
    }

  private:
    struct Entry {
        unsigned bits = 0;
        std::uint32_t delta = 0;
        std::size_t symbol = 0;
    };
    std::vector<Entry> entries_;
};

template <std::size_t kCount>
class ValueDecoder {
  public:
    ValueDecoder(StateTable table, std::size_t state, const std::array<Meaning, kCount>& meanings)
        : table_(std::move(table)), state_(state), meanings_(meanings) {}

    std::size_t next(BackwardBits& bits) {
        // The bits of the state come before those of the value.
        const Meaning& meaning = meanings_[table_.next(state_, bits) % kCount];
        return std::size_t{meaning.base} + bits.pull(meaning.bits);
    }

  private:
    StateTable table_;
    std::size_t state_;
    const std::array<Meaning, kCount>& meanings_;
};

struct CodedBlock {
    std::size_t header_size = 0;  // bytes
    std::size_t raw = 0, literals = 0, literal_bytes = 0, matches = 0, match_bytes = 0;
    unsigned spare_literal_bits = 0, spare_match_bits = 0;
    std::array<std::size_t, 4> literal_states{};
    std::size_t run_state = 0, length_state = 0, distance_state = 0;
    std::array<std::uint16_t, kTableSymbols> frequencies{};  // of literal runs, match lengths, distances, literals
};

// "bvx2": the fields packed into three numbers, the frequencies in codes of 2 to 14 bits.
std::optional<CodedBlock> packed_header(ByteView view) {
    constexpr std::size_t kFixed = 32, kFieldsAt = 8;
    std::array<std::uint64_t, 3> fields{};
    for (std::size_t i = 0; i < fields.size(); ++i) {
        const auto field = view.u64le(kFieldsAt + 8 * i);
        if (!field) return std::nullopt;
        fields[i] = *field;
    }
    const auto bits = [&](std::size_t field, unsigned from, unsigned count) {
        return static_cast<std::size_t>(fields[field] >> from & ((std::uint64_t{1} << count) - 1));
    };
    CodedBlock block;
    block.raw = *view.u32le(4);
    block.literals = bits(0, 0, 20);
    block.literal_bytes = bits(0, 20, 20);
    block.matches = bits(0, 40, 20);
    block.spare_literal_bits = static_cast<unsigned>(7 - bits(0, 60, 3));
    for (std::size_t i = 0; i < 4; ++i) block.literal_states[i] = bits(1, static_cast<unsigned>(10 * i), 10);
    block.match_bytes = bits(1, 40, 20);
    block.spare_match_bits = static_cast<unsigned>(7 - bits(1, 60, 3));
    block.header_size = bits(2, 0, 32);
    block.run_state = bits(2, 32, 10);
    block.length_state = bits(2, 42, 10);
    block.distance_state = bits(2, 52, 10);
    const auto tables = view.slice(kFixed, block.header_size - std::min(block.header_size, kFixed));
    if (!tables) return std::nullopt;

    constexpr std::array<std::uint8_t, 32> kLengths = {2, 3, 2, 5, 2, 3, 2, 8, 2, 3, 2, 5, 2, 3, 2, 14,
                                                       2, 3, 2, 5, 2, 3, 2, 8, 2, 3, 2, 5, 2, 3, 2, 14};
    constexpr std::array<std::uint8_t, 32> kValues = {0, 2, 1, 4, 0, 3, 1, 0, 0, 2, 1, 5, 0, 3, 1, 0,
                                                      0, 2, 1, 6, 0, 3, 1, 0, 0, 2, 1, 7, 0, 3, 1, 0};
    std::uint32_t window = 0;
    unsigned held = 0;
    std::size_t at = 0;
    for (std::uint16_t& frequency : block.frequencies) {
        while (held + 8 <= 32 && at < tables->size()) {
            window |= std::to_integer<std::uint32_t>(tables->bytes()[at++]) << held;
            held += 8;
        }
        const unsigned length = kLengths[window & 31];
        frequency = static_cast<std::uint16_t>(length == 8    ? 8 + (window >> 4 & 0xF)
                                               : length == 14 ? 24 + (window >> 4 & 0x3FF)
                                                              : kValues[window & 31]);
        if (length > held && !tables->empty()) return std::nullopt;
        window >>= length;
        held -= std::min(held, length);
    }
    return block;
}

// "bvx1": all of it in whole numbers.
std::optional<CodedBlock> plain_header(ByteView view) {
    constexpr std::size_t kSize = 772, kTablesAt = 50;
    if (view.size() < kSize) return std::nullopt;
    const auto number = [&](std::size_t at) { return std::size_t{*view.u32le(at)}; };
    const auto small = [&](std::size_t at) { return std::size_t{*view.u16le(at)}; };
    CodedBlock block;
    block.header_size = kSize;
    block.raw = number(4);
    block.literals = number(12);
    block.matches = number(16);
    block.literal_bytes = number(20);
    block.match_bytes = number(24);
    block.spare_literal_bits = static_cast<unsigned>((0 - number(28)) & 7);
    for (std::size_t i = 0; i < 4; ++i) block.literal_states[i] = small(32 + 2 * i);
    block.spare_match_bits = static_cast<unsigned>((0 - number(40)) & 7);
    block.run_state = small(44);
    block.length_state = small(46);
    block.distance_state = small(48);
    for (std::size_t i = 0; i < kTableSymbols; ++i)
        block.frequencies[i] = static_cast<std::uint16_t>(small(kTablesAt + 2 * i));
    return block;
}

// False: it stops making sense.
bool unpack_block(const CodedBlock& block, ByteView view, Output& output) {
    constexpr std::size_t kMostLiterals = std::size_t{1} << 20;
    const auto literal_part = view.slice(block.header_size, block.literal_bytes);
    const auto match_part = view.slice(block.header_size + block.literal_bytes, block.match_bytes);
    if (!literal_part || !match_part || block.literals > kMostLiterals) return false;
    const std::span<const std::uint16_t> all(block.frequencies);
    const auto runs = StateTable::of(all.first(kLengthSymbols), kLengthStates);
    const auto lengths = StateTable::of(all.subspan(kLengthSymbols, kLengthSymbols), kLengthStates);
    const auto distances = StateTable::of(all.subspan(2 * kLengthSymbols, kDistanceSymbols), kDistanceStates);
    const auto symbols = StateTable::of(all.last(kLiteralSymbols), kLiteralStates);
    if (!runs || !lengths || !distances || !symbols) return false;

    std::vector<std::byte> literals(block.literals);
    BackwardBits literal_bits(literal_part->bytes(), block.spare_literal_bits);
    auto states = block.literal_states;
    for (std::size_t i = 0; i < literals.size(); ++i)
        literals[i] = static_cast<std::byte>(symbols->next(states[i % states.size()], literal_bits));
    if (!literal_bits.ok()) return false;

    BackwardBits bits(match_part->bytes(), block.spare_match_bits);
    ValueDecoder run(*runs, block.run_state, kLiteralRuns);
    ValueDecoder length(*lengths, block.length_state, kMatchLengths);
    ValueDecoder distance(*distances, block.distance_state, kDistances);
    std::size_t used = 0, before = 0;
    for (std::size_t n = 0; n < block.matches && !output.is_full(); ++n) {
        const std::size_t literal_run = run.next(bits), match = length.next(bits), away = distance.next(bits);
        if (!bits.ok() || literal_run > literals.size() - used) return false;
        output.put(std::span<const std::byte>(literals).subspan(used, literal_run));
        used += literal_run;
        before = away != 0 ? away : before;
        if (!output.copy(before, match)) return false;
    }
    return true;
}

}  // namespace

std::size_t lzvn_unpack(std::span<const std::byte> packed, std::span<std::byte> into) {
    Output output(into);
    unpack_lzvn(packed, output);
    return output.size();
}

std::size_t lzfse_unpack(std::span<const std::byte> packed, std::span<std::byte> into) {
    Output output(into);
    ByteView view(packed);
    while (!output.is_full() && view.size() >= 8) {
        const std::size_t raw = *view.u32le(4);
        std::size_t length = 0;
        if (view.has(0, "bvx-")) {
            constexpr std::size_t kHeader = 8;
            length = kHeader + std::min(raw, view.size() - kHeader);
            output.put(view.bytes().subspan(kHeader, length - kHeader));
        } else if (view.has(0, "bvxn")) {
            constexpr std::size_t kHeader = 12;
            const std::size_t stored = view.u32le(8).value_or(0);
            const auto payload = view.slice(kHeader, stored);
            if (!payload) break;
            const std::size_t before = output.size(), room = std::min(raw, into.size() - before);
            std::size_t done = 0;
            {
                // Its distances never reach in front of the block.
                Output part(into.subspan(before, room));
                unpack_lzvn(payload->bytes(), part);
                done = part.size();
            }
            output.put(into.subspan(before, done));
            if (done < room) break;
            length = kHeader + stored;
        } else if (view.has(0, "bvx2") || view.has(0, "bvx1")) {
            const auto block = view.has(0, "bvx2") ? packed_header(view) : plain_header(view);
            if (!block || !unpack_block(*block, view, output)) break;
            length = block->header_size + block->literal_bytes + block->match_bytes;
        } else {
            break;
        }
        view = ByteView(view.bytes().subspan(std::min(length, view.size())));
    }
    return output.size();
}

}  // namespace dredger
