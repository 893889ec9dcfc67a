// Content that lies in two pieces with foreign bytes between them, and is put together by its format.
#pragma once

#include <gtest/gtest.h>

#include "carving/joining.h"
#include "support/support.h"

namespace dredger::test {

// What comes of it; nothing: it was not put together. `asks_for_endings`: by where files may end, too.
inline std::optional<Joined> joined_from_two(const Format& format, const std::vector<std::byte>& content,
                                             std::uint64_t split, std::uint64_t foreign,
                                             bool asks_for_endings = false) {
    constexpr std::uint64_t kGrain = 512;
    const auto middle = content.begin() + static_cast<std::ptrdiff_t>(split);
    std::vector<std::byte> ground(content.begin(), middle);
    const auto others = noise(static_cast<std::size_t>(foreign), 5);
    ground.insert(ground.end(), others.begin(), others.end());
    ground.insert(ground.end(), middle, content.end());
    ground.resize((ground.size() + kGrain - 1) / kGrain * kGrain);
    const MemoryMedium medium(ground);
    Remains remains(medium.size(), kGrain);
    remains.hold({0, kGrain});  // its beginning is its own
    remains.settle();
    Budget budget;
    Reader reader(medium, budget);
    const TornFile torn{.start = 0, .format = &format, .measured = measure(format, reader), .own = medium.size()};
    std::optional<Endings> endings;
    if (asks_for_endings) {
        Coverage everywhere;
        everywhere.add({0, medium.size()});
        endings.emplace(medium, remains, everywhere, Budget::Stop());
    }
    return join(medium, remains, torn, {}, endings ? &*endings : nullptr);
}

inline void expect_fitted(const Format& format, const std::vector<std::byte>& content, std::uint64_t split,
                          std::uint64_t foreign) {
    const auto whole = joined_from_two(format, content, split, foreign);
    ASSERT_TRUE(whole) << split << " " << foreign;
    EXPECT_TRUE(whole->is_whole);
    EXPECT_EQ(whole->pieces, (std::vector<Extent>{{0, split}, {split + foreign, content.size() - split}}));
}

// The same, and its content proves it.
inline void expect_joined(const Format& format, const std::vector<std::byte>& content, std::uint64_t split,
                          std::uint64_t foreign) {
    const auto whole = joined_from_two(format, content, split, foreign);
    ASSERT_TRUE(whole) << split << " " << foreign;
    EXPECT_TRUE(whole->is_proven());
    EXPECT_EQ(whole->pieces, (std::vector<Extent>{{0, split}, {split + foreign, content.size() - split}}));
}

}  // namespace dredger::test
