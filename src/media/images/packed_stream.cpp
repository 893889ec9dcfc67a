#include "media/images/packed_stream.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fmt/format.h>
#include <unistd.h>

#include "base/bytes.h"
#include "base/file_io.h"

namespace dredger {
namespace {

// A unit that is unpacked forward into a file without a name, as far as it was asked for.
class Spilled final : public Medium {
  public:
    static Result<MediumPtr> begin(std::string name, std::uint64_t size, std::unique_ptr<Unpacker> unpacker) {
        const std::filesystem::path folder = std::filesystem::temp_directory_path();
        const int descriptor = nameless_file(folder);
        if (descriptor < 0 || ::ftruncate(descriptor, static_cast<off_t>(size)) != 0)
            return fail(ErrorKind::output, fmt::format("no temporary file can be made ({})", std::strerror(errno)),
                        folder.string(), "TMPDIR=FOLDER names another folder; or unpack the image first");
        return MediumPtr(new Spilled(std::move(name), size, descriptor, std::move(unpacker)));
    }
    ~Spilled() override { ::close(descriptor_); }
    Spilled(const Spilled&) = delete;
    Spilled& operator=(const Spilled&) = delete;

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return name_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        DREDGER_CHECK(unpack_to(offset + into.size()));
        std::fill(into.begin(), into.end(), std::byte{0});
        const std::size_t there =
            static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), reached_ > offset ? reached_ - offset : 0));
        const std::size_t done = read_all(descriptor_, offset, into.first(there));
        if (done < into.size()) bad.push_back({offset + done, into.size() - done});
        return {};
    }

  private:
    Spilled(std::string name, std::uint64_t size, int descriptor, std::unique_ptr<Unpacker> unpacker)
        : name_(std::move(name)), size_(size), descriptor_(descriptor), unpacker_(std::move(unpacker)) {}

    Result<void> unpack_to(std::uint64_t end) const {
        const std::lock_guard guard(lock_);
        std::vector<std::byte> piece(256 << 10);
        while (reached_ < end && !ended_) {
            const auto got = unpacker_->next(piece);
            ended_ = !got || *got == 0;
            if (ended_) break;
            const auto bytes = std::span(piece).first(std::min<std::size_t>(*got, size_ - reached_));
            // Zeros stay holes.
            const bool is_zeros = bytes[0] == std::byte{0} && ByteView(bytes).is_uniform();
            if (!is_zeros && !write_all(descriptor_, reached_, bytes))
                return not_written("a packed image can't be unpacked for reading",
                                   std::filesystem::temp_directory_path().string(),
                                   "TMPDIR=FOLDER names a folder with more room; or unpack the image first");
            reached_ += bytes.size();
            ended_ = reached_ >= size_;
        }
        return {};
    }

    std::string name_;
    std::uint64_t size_;
    int descriptor_;
    mutable std::mutex lock_;
    std::unique_ptr<Unpacker> unpacker_;
    mutable std::atomic<std::uint64_t> reached_ = 0;
    mutable bool ended_ = false;
};

}  // namespace

Result<std::uint64_t> content_length(Unpacker& unpacker) {
    std::vector<std::byte> piece(1 << 20);
    std::uint64_t length = 0;
    while (true) {
        DREDGER_TRY(const std::size_t got, unpacker.next(piece));
        if (got == 0) return length;
        length += got;
    }
}

PackedStream::PackedStream(std::string name, std::vector<PackedUnit> units, Begin begin)
    : Translated(std::move(name), units.empty() ? 0 : units.back().start + units.back().length, 512),
      units_(std::move(units)),
      begin_(std::move(begin)) {}

Result<std::vector<std::byte>> PackedStream::unpack(const PackedUnit& unit) const {
    DREDGER_TRY(const auto unpacker, begin_(unit));
    std::vector<std::byte> out(static_cast<std::size_t>(unit.length));
    std::size_t done = 0;
    while (done < out.size()) {
        const auto got = unpacker->next(std::span(out).subspan(done));
        if (!got || *got == 0) break;  // what came out in front of the damage is good
        done += *got;
    }
    out.resize(done);
    return out;
}

Result<Place> PackedStream::place_of(std::uint64_t offset) const {
    auto unit = std::upper_bound(units_.begin(), units_.end(), offset,
                                 [](std::uint64_t at, const PackedUnit& u) { return at < u.start; });
    --unit;
    Place place;
    place.offset = offset - unit->start;
    place.length = unit->length - place.offset;
    if (unit->length > kLargest) {
        const std::lock_guard guard(lock_);
        auto& spilled = spilled_[unit->start];
        if (spilled == nullptr) {
            DREDGER_TRY(auto unpacker, begin_(*unit));
            DREDGER_TRY(spilled, Spilled::begin(name(), unit->length, std::move(unpacker)));
        }
        place.on = spilled;
        return place;
    }
    DREDGER_TRY(place.unpacked, unpacked_.get(unit->start, [&] { return unpack(*unit); }));
    if (place.offset < place.unpacked->size())
        place.length = std::min<std::uint64_t>(place.length, place.unpacked->size() - place.offset);
    return place;
}

Result<std::span<const std::byte>> PackedInput::next() {
    constexpr std::uint64_t kPiece = 64 << 10;
    if (at_ >= file_->size()) return std::span<const std::byte>();
    buffer_.resize(static_cast<std::size_t>(std::min(kPiece, file_->size() - at_)));
    DREDGER_CHECK(file_->read(at_, buffer_));
    at_ += buffer_.size();
    return std::span<const std::byte>(buffer_);
}

}  // namespace dredger
