// How measurers read content: numbers and bytes at any place of it, through a few windows, so that no file is ever held
// in memory whole.
//
// Where a number lies behind the end or can't be read its bytes are 0, and the reader is not ok() from then on: what
// was concluded from it is not proven. Questions (holds, has, is_zeros, find) and runs of bytes (some, text) may reach
// behind the end: nothing stands there. Every call spends from the budget that the caller gave; when that is spent
// nothing can be read any more. Loops over counts that the content claims ask ok().
#pragma once

#include <algorithm>
#include <array>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"
#include "formats/budget.h"
#include "media/medium.h"

namespace dredger {

namespace formats {
class StreamMemory;
}

class Reader {
  public:
    static constexpr std::size_t kWindow = 64 << 10;  // bytes

    // The content begins at `from` and reaches at most to the end of `medium`, which must outlive the reader, as must
    // the budget.
    Reader(const Medium& medium, Budget& budget, std::uint64_t from = 0);

    // The content from `at` on, through windows of its own, out of the same budget.
    Reader within(std::uint64_t at) const {
        Reader reader(medium_, budget_, from_ + std::min(at, size_));
        reader.memory_ = memory_;
        return reader;
    }

    // For content that is read again and again: what was learnt of the streams in it. It must outlive the reader.
    void remember(formats::StreamMemory& memory) { memory_ = &memory; }
    formats::StreamMemory* memory() const { return memory_; }              // null: nothing is remembered
    std::uint64_t place_of(std::uint64_t at) const { return from_ + at; }  // in the medium

    enum class Trouble {
        none,
        past_end,    // a number behind the end was asked for
        unreadable,  // what was asked for can't be read
        gave_up,     // the budget is spent
    };
    bool ok() const { return trouble_ == Trouble::none && !budget_.is_spent(); }
    // The first there was, but that giving up counts for more; and where.
    Trouble trouble() const { return budget_.is_spent() ? Trouble::gave_up : trouble_; }
    std::uint64_t trouble_at() const { return trouble_at_; }
    Budget& budget() { return budget_; }

    std::uint64_t size() const { return size_; }  // bytes; nothing stands behind them
    bool holds(std::uint64_t at, std::uint64_t length) const { return lies_within(at, length, size_); }

    std::uint8_t u8(std::uint64_t at) { return number<std::uint8_t, 1, false>(at); }
    std::uint16_t u16le(std::uint64_t at) { return number<std::uint16_t, 2, false>(at); }
    std::uint32_t u24le(std::uint64_t at) { return number<std::uint32_t, 3, false>(at); }
    std::uint32_t u32le(std::uint64_t at) { return number<std::uint32_t, 4, false>(at); }
    std::uint64_t u64le(std::uint64_t at) { return number<std::uint64_t, 8, false>(at); }
    std::uint16_t u16be(std::uint64_t at) { return number<std::uint16_t, 2, true>(at); }
    std::uint32_t u24be(std::uint64_t at) { return number<std::uint32_t, 3, true>(at); }
    std::uint32_t u32be(std::uint64_t at) { return number<std::uint32_t, 4, true>(at); }
    std::uint64_t u64be(std::uint64_t at) { return number<std::uint64_t, 8, true>(at); }

    // Whether exactly these bytes stand at `at`.
    bool has(std::uint64_t at, std::string_view bytes);

    // The bytes from `at` on: at least one unless the content ends here, at most kWindow. Valid until the next call.
    std::span<const std::byte> some(std::uint64_t at);

    // The `length` bytes from `at` on, fewer at the end of the content. `length` is at most kMaxText.
    static constexpr std::size_t kMaxText = 1 << 20;
    std::string text(std::uint64_t at, std::size_t length);

    // Where `bytes` (at most 64 of them) stand first, entirely within [from, to).
    std::optional<std::uint64_t> find(std::string_view bytes, std::uint64_t from, std::uint64_t to);
    // Where they stand last.
    std::optional<std::uint64_t> find_last(std::string_view bytes, std::uint64_t from, std::uint64_t to);

    // Whether [from, to) holds nothing but zeros.
    bool is_zeros(std::uint64_t from, std::uint64_t to);

    // The first sector within [from, to) in which no byte has its highest bit set: text, zeros, anything but packed
    // data. Sectors count from the start of the content, as files begin at one.
    std::optional<std::uint64_t> first_plain_sector(std::uint64_t from, std::uint64_t to);

    // How many bytes this reader fetched so far: what a measurement costs.
    std::uint64_t fetched() const { return fetched_; }

  private:
    // Room for kWindow bytes, handed on from reader to reader of a thread: a scan makes one for each signature it
    // meets.
    class Room {
      public:
        Room() = default;
        Room(Room&&) = default;
        Room& operator=(Room&&) = default;
        ~Room();
        std::byte* bytes();

      private:
        using Bytes = std::unique_ptr<std::byte[]>;
        static std::vector<Bytes>& spare();
        Bytes bytes_;
    };
    struct Window {
        std::uint64_t at = ~std::uint64_t{0};  // within the content
        std::uint64_t used = 0;                // when, to give up the one that waited longest
        std::span<std::byte> bytes;            // in `room`
        std::vector<Extent> bad = {};          // those that can't be read, within the window
        Room room;
    };
    const Window& window(std::uint64_t at);

    template <class T, std::size_t Bytes, bool BigEndian>
    T number(std::uint64_t at) {
        if (!budget_.spend_step()) return 0;
        const Window& from = window(at);
        const std::uint64_t skip = at - from.at;
        const bool is_at_hand = from.bad.empty() && skip + Bytes <= from.bytes.size();
        T value = 0;
        for (std::size_t i = 0; i < Bytes; ++i) {
            const auto byte = is_at_hand ? std::to_integer<std::uint8_t>(from.bytes[static_cast<std::size_t>(skip + i)])
                                         : byte_at(at + i);
            const std::size_t place = BigEndian ? Bytes - 1 - i : i;
            value = static_cast<T>(value | static_cast<T>(static_cast<T>(byte) << (8 * place)));
        }
        return value;
    }
    std::uint8_t byte_at(std::uint64_t at);

    void fail(Trouble trouble, std::uint64_t at);

    const Medium& medium_;
    Budget& budget_;
    formats::StreamMemory* memory_ = nullptr;
    std::uint64_t from_;
    std::uint64_t size_;
    std::array<Window, 4> windows_;
    std::size_t last_ = 0;
    std::uint64_t clock_ = 0;
    std::uint64_t fetched_ = 0;
    Trouble trouble_ = Trouble::none;
    std::uint64_t trouble_at_ = 0;
};

}  // namespace dredger
