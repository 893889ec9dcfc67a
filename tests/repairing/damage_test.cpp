// Damage anywhere in any sample ends no mender, and what it makes is no larger than what can be.
#include <gmock/gmock.h>
#include <random>

#include "repairing/mended.h"
#include "support/walked.h"

namespace dredger::test {
namespace {

using repairing::Outcome;

Bytes damaged_at_random(Bytes bytes, std::mt19937& random) {
    const auto place = [&](std::size_t room) { return random() % std::max<std::size_t>(room, 1); };
    for (auto n = 1 + random() % 3; n > 0 && !bytes.empty(); --n) {
        const std::size_t at = place(bytes.size());
        const std::size_t length = std::min<std::size_t>(bytes.size() - at, 1 + place(600));
        switch (random() % 6) {
            case 0: bytes = zeroed(std::move(bytes), at, length); break;
            case 1: bytes = with_noise(std::move(bytes), at, length); break;
            case 2: bytes = without(std::move(bytes), at, length); break;
            case 3: bytes = with_noise_inserted(std::move(bytes), at, length); break;
            case 4: bytes[at] ^= static_cast<std::byte>(1U << random() % 8); break;
            default: bytes = cut(std::move(bytes), at); break;
        }
    }
    return bytes;
}

TEST(RepairDamage, AnywhereInAnySampleIsTaken) {
    const unsigned copies = affordable(40);
    std::mt19937 random(2026);
    for (const auto& [name, bytes] : samples()) {
        const Format* format = format_with_extension(name.substr(name.rfind('.') + 1));
        if (format == nullptr || repairing::mender_of(format->name) == nullptr) continue;
        for (unsigned i = 0; i < copies; ++i) {
            const Bytes damaged = damaged_at_random(bytes, random);
            if (damaged.empty()) continue;
            const std::vector<std::string> references =
                random() % 2 == 0 ? std::vector<std::string>() : std::vector<std::string>{name};
            const MendedBytes mended = mend(name, damaged, references);
            EXPECT_LE(mended.done.kept, mended.done.of) << name << " " << i << ": " << mended.said();
            EXPECT_LE(mended.result.size(), 64 * damaged.size() + (16 << 20)) << name << " " << i;
            EXPECT_TRUE(mended.outcome() != Outcome::whole || mended.result == damaged) << name << " " << i;
            EXPECT_TRUE(mended.outcome() != Outcome::mended || !mended.done.what.empty()) << name << " " << i;
        }
    }
}

}  // namespace
}  // namespace dredger::test
