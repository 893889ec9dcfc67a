// The sum of a restored file, by which it is known again and can be checked anywhere.
#pragma once

#include <string>
#include <string_view>
#include <variant>

#include "base/digest.h"

namespace dredger {

enum class SumKind {
    sha256,  // proof against anything
    xxh128,  // as fast as memory, proof against accidents only
};
inline constexpr std::string_view kSumKindWords[] = {"sha256", "xxh128"};
inline constexpr const char* kSumFiles[] = {"SHA256SUMS", "XXH128SUMS"};

class ContentSum {
  public:
    explicit ContentSum(SumKind kind) {
        if (kind == SumKind::xxh128) hash_.emplace<Fingerprinter>();
    }
    void add(std::span<const std::byte> bytes) {
        std::visit([&](auto& hash) { hash.add(bytes); }, hash_);
    }
    // In hexadecimal digits, 64 or 32. Nothing may be added afterwards.
    std::string finish() {
        if (auto* fast = std::get_if<Fingerprinter>(&hash_)) return text_of(fast->finish());
        return std::get<Sha256>(hash_).finish();
    }

  private:
    std::variant<Sha256, Fingerprinter> hash_;
};

}  // namespace dredger
