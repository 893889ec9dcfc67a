// Where what comes out of a packed stream stops being like what came before. Foreign bytes unpack for a while whatever
// they are, but to words that were never seen: of the threes of bytes that come out more are new from there on.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace dredger::formats {

class Familiarity {
  public:
    void add(std::span<const std::byte> bytes);
    // All that was added since the last call came from before `at`.
    void mark(std::uint64_t at);
    // The mark in [from, to] before which all is of one kind and behind which it is not; nothing where there is none.
    std::optional<std::uint64_t> change(std::uint64_t from = 0, std::uint64_t to = ~std::uint64_t{0}) const;

  private:
    static constexpr unsigned kBits = 17;  // of the sum of three bytes by which they are known
    struct Stretch {
        std::uint64_t end;  // of the stretch
        std::uint64_t all, fresh;
    };
    // How much speaks for a change before the stretch `n`, in nats.
    double change_before(std::size_t n) const;

    std::vector<std::uint64_t> known_ = std::vector<std::uint64_t>(std::size_t{1} << (kBits - 6));
    std::vector<Stretch> stretches_;  // the last ones
    std::uint32_t last_ = 0;          // three bytes
    std::uint64_t all_ = 0, fresh_ = 0;
};

}  // namespace dredger::formats
