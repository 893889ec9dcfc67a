// A bounds-checked look at bytes from a medium. It knows where on the medium its first byte lies, so that a read past
// its end can name the place. All parsing of on-disk structures goes through it.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>
#include <string_view>
#include <type_traits>

#include "base/checked.h"
#include "base/error.h"

namespace dredger {

class ByteView {
  public:
    ByteView() = default;
    // `origin` is the byte offset of bytes[0] on the medium.
    explicit ByteView(std::span<const std::byte> bytes, std::uint64_t origin = 0) : bytes_(bytes), origin_(origin) {}

    std::size_t size() const { return bytes_.size(); }
    bool empty() const { return bytes_.empty(); }
    std::uint64_t origin() const { return origin_; }
    std::span<const std::byte> bytes() const { return bytes_; }

    Result<ByteView> slice(std::size_t offset, std::size_t length) const {
        if (!lies_within(offset, length, bytes_.size())) return past_end(offset, length);
        return ByteView(bytes_.subspan(offset, length), origin_ + offset);
    }

    // A copy of the on-disk structure T at `offset`. T has no padding: its members are bytes and endian integers.
    template <class T>
    Result<T> as(std::size_t offset) const {
        static_assert(std::is_trivially_copyable_v<T> && alignof(T) == 1, "not an on-disk structure");
        if (!lies_within(offset, sizeof(T), bytes_.size())) return past_end(offset, sizeof(T));
        T value;
        std::memcpy(&value, bytes_.data() + offset, sizeof(T));
        return value;
    }

    Result<std::uint8_t> u8(std::size_t offset) const { return as<std::uint8_t>(offset); }
    Result<std::uint16_t> u16le(std::size_t offset) const { return number<boost::endian::little_uint16_t>(offset); }
    Result<std::uint32_t> u32le(std::size_t offset) const { return number<boost::endian::little_uint32_t>(offset); }
    Result<std::uint64_t> u64le(std::size_t offset) const { return number<boost::endian::little_uint64_t>(offset); }

    // Whether exactly these bytes stand at `offset`; false where they would reach past the end.
    bool has(std::size_t offset, std::string_view expected) const {
        return lies_within(offset, expected.size(), bytes_.size()) &&
               std::memcmp(bytes_.data() + offset, expected.data(), expected.size()) == 0;
    }

    // Whether every byte is the same (true for an empty view).
    bool is_uniform() const {
        for (const std::byte b : bytes_)
            if (b != bytes_.front()) return false;
        return true;
    }

  private:
    template <class Endian>
    Result<typename Endian::value_type> number(std::size_t offset) const {
        return as<Endian>(offset).map([](Endian e) { return e.value(); });
    }
    tl::unexpected<Error> past_end(std::size_t offset, std::size_t length) const;

    std::span<const std::byte> bytes_;
    std::uint64_t origin_ = 0;
};

// The bytes of a text, which must outlive the view.
inline ByteView view_of(std::string_view text) { return ByteView(std::as_bytes(std::span(text))); }

}  // namespace dredger
