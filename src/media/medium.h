// What is read: a device, an image, a part of either, or a file's content laid out on them. There is no way to write.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"

namespace dredger {

// What a run of a file's content is.
enum class Held : std::uint8_t {
    stored,    // bytes of the medium
    zeros,     // zeros by definition: sparse, or never written
    unknown,   // it is not known what stood there
    composed,  // made from what a mail store keeps of a message: Medium::composed
};

inline constexpr std::string_view kHeldWords[] = {"stored", "zeros", "unknown", "composed"};
inline std::string_view word_for(Held held) { return kHeldWords[static_cast<std::size_t>(held)]; }

// A run of bytes on a medium, or one of a file's content that no medium holds.
struct Extent {
    // Bytes from the start of the medium; of what is composed, the number that it is asked for by; else 0.
    std::uint64_t offset = 0;
    std::uint64_t length = 0;  // bytes
    Held held = Held::stored;

    static constexpr Extent zeros(std::uint64_t length) { return {0, length, Held::zeros}; }
    static constexpr Extent unknown(std::uint64_t length) { return {0, length, Held::unknown}; }

    bool is_stored() const { return held == Held::stored; }
    bool is_zeros() const { return held == Held::zeros; }
    bool is_unknown() const { return held == Held::unknown; }
    bool is_composed() const { return held == Held::composed; }
    std::uint64_t end() const { return offset + length; }
    // Whether `next` goes on where this one ends, so that the two are one.
    bool goes_on_with(const Extent& next) const {
        return held == next.held && !is_composed() && (!is_stored() || end() == next.offset);
    }
    // `length` bytes of it, from its byte `skip` on.
    Extent part(std::uint64_t skip, std::uint64_t bytes) const {
        if (is_composed()) return skip == 0 ? Extent{offset, bytes, held} : unknown(bytes);
        return {is_stored() ? offset + skip : 0, bytes, held};
    }
    bool operator==(const Extent&) const = default;
};

// Behind the others, as a part of the last one where it goes on with that.
inline void append(std::vector<Extent>& extents, const Extent& next) {
    if (!extents.empty() && extents.back().goes_on_with(next))
        extents.back().length += next.length;
    else
        extents.push_back(next);
}

class Medium {
  public:
    virtual ~Medium() = default;

    virtual std::uint64_t size() const = 0;         // bytes
    virtual std::uint32_t sector_size() const = 0;  // bytes; the smallest piece that can be unreadable by itself
    virtual std::string name() const = 0;           // for messages

    // Fills `into` with the bytes from `offset` on. Past the end of the medium: an error. Bytes that can't be read come
    // as zeros and their runs are added to `bad`; without `bad` they are an error.
    Result<void> read(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>* bad = nullptr) const;

    // The `length` bytes from `offset` on; fails as read() without `bad` does.
    Result<std::vector<std::byte>> bytes(std::uint64_t offset, std::size_t length) const;

    // One attempt, without closing in on what fails: for work that must not wear out a failing drive. Whether all of it
    // was read; the bytes mean nothing where it was not. Past the end of the medium: false.
    virtual bool try_read(std::uint64_t offset, std::span<std::byte> into) const;

    // Whether it answers at this place now: asks it anew, whatever is remembered of it.
    virtual bool answers_at(std::uint64_t offset) const;

    // How many bytes from here on are zeros by definition, without a read; 0 where it is not known.
    virtual std::uint64_t zeros_from(std::uint64_t /*offset*/) const { return 0; }

    // Adds what of the range is known to be unreadable, without reading it.
    virtual void add_known_bad(std::uint64_t /*offset*/, std::uint64_t /*length*/, std::vector<Extent>& /*bad*/) const {
    }

    // What is composed under this number (Held::composed); null: this medium knows of none.
    virtual std::shared_ptr<const Medium> composed(std::uint64_t /*number*/) const { return nullptr; }

    // A hint that the range, which lies within size(), will be read before long.
    virtual void expect(std::uint64_t /*offset*/, std::uint64_t /*length*/) const {}

  protected:
    // The range lies within size(). Zero-fills what can't be read and adds its runs to `bad`.
    virtual Result<void> read_within(std::uint64_t offset, std::span<std::byte> into,
                                     std::vector<Extent>& bad) const = 0;
};

using MediumPtr = std::shared_ptr<const Medium>;

}  // namespace dredger
