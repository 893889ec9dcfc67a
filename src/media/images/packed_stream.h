// A raw image that was packed as one stream of bytes, read anywhere: its stream is made of units, each of which can be
// unpacked without those in front of it.
#pragma once

#include <functional>
#include <map>

#include "media/file_medium.h"
#include "media/images/translated.h"

namespace dredger {

// One unit of a packed file.
struct PackedUnit {
    std::uint64_t packed = 0;            // byte of the file at which it begins
    std::uint64_t start = 0;             // byte of the content
    std::uint64_t length = 0;            // bytes of content
    unsigned detail = 0;                 // what its codec must know of it besides
    std::vector<std::byte> window = {};  // content in front of it that it may refer to
};

// Unpacks forward.
class Unpacker {
  public:
    virtual ~Unpacker() = default;
    // Fills `into` as far as the stream goes; how many bytes came out, 0 at its end. An error where it is damaged.
    virtual Result<std::size_t> next(std::span<std::byte> into) = 0;
};

// Bytes of what is still to come out.
Result<std::uint64_t> content_length(Unpacker& unpacker);

// Small units are unpacked as a whole and kept for a while. One that is larger than kLargest is unpacked once, as far
// as it is asked for, into a file without a name in the folder for temporary files.
class PackedStream final : public Translated {
  public:
    using Begin = std::function<Result<std::unique_ptr<Unpacker>>(const PackedUnit& unit)>;
    static constexpr std::uint64_t kLargest = 32 << 20;  // bytes

    // The units in order, without gaps between them.
    PackedStream(std::string name, std::vector<PackedUnit> units, Begin begin);

  protected:
    Result<Place> place_of(std::uint64_t offset) const override;

  private:
    Result<std::vector<std::byte>> unpack(const PackedUnit& unit) const;

    std::vector<PackedUnit> units_;
    Begin begin_;
    Recent<std::vector<std::byte>> unpacked_{4};
    mutable std::mutex lock_;
    mutable std::map<std::uint64_t, MediumPtr> spilled_;  // large units, by their starts
};

// The packed bytes of a file, read forward for a codec.
class PackedInput {
  public:
    PackedInput(std::shared_ptr<const FileMedium> file, std::uint64_t offset) : file_(std::move(file)), at_(offset) {}
    // The next bytes, at most 64 KiB; empty at the end of the file.
    Result<std::span<const std::byte>> next();
    std::uint64_t position() const { return at_; }  // in the file, behind what was handed over

  private:
    std::shared_ptr<const FileMedium> file_;
    std::uint64_t at_;
    std::vector<std::byte> buffer_;
};

}  // namespace dredger
