// Packed streams, unpacked piece by piece. The one place for the libraries that do it.
#pragma once

#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <span>

namespace dredger {

enum class Packing {
    none,
    deflate,  // RFC 1951, without a frame
    zlib,     // RFC 1950
    gzip,     // RFC 1952
    bzip2,
    xz,
    lzma,     // as 7z has it: without a header, with the properties that are usual
    lzma2,    // the same
    zstd,     // RFC 8878
    unknown,  // in a way that can't be undone here, or encrypted
};

// Used by one thread.
class StreamDecoder {
  public:
    explicit StreamDecoder(Packing packing);
    ~StreamDecoder();
    StreamDecoder(StreamDecoder&&) noexcept;
    StreamDecoder& operator=(StreamDecoder&&) noexcept;
    StreamDecoder(const StreamDecoder&) = delete;
    StreamDecoder& operator=(const StreamDecoder&) = delete;

    // One that goes on from here by itself. Nothing where its packing can't be taken up in the middle.
    std::optional<StreamDecoder> copy() const;

    struct Stream;  // of one packing
    enum class State { going, ended, failed };
    // Unpacks `packed`; `visit` gets what comes out. Sets `used` to how many bytes of it belong to the stream.
    State feed(std::span<const std::byte> packed, std::size_t& used,
               const std::function<void(std::span<const std::byte>)>& visit);

    // Unpacks a stream that is at hand as a whole, as far as it makes sense and there is room. How many bytes came out.
    static std::size_t decode_all(Packing packing, std::span<const std::byte> packed, std::span<std::byte> into);

  private:
    explicit StreamDecoder(std::unique_ptr<Stream> stream);
    std::unique_ptr<Stream> stream_;
};

}  // namespace dredger
