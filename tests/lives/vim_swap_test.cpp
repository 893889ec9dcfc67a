// Swap files of the editor itself, and what is made of them when they are damaged.
#include "lives/vim_swap.h"

#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>

#include "media/text_medium.h"
#include "support/support.h"

namespace dredger::lives {
namespace {

struct Swap {
    std::string path;
    std::string bytes;
    std::uint64_t size;  // of the text that the editor gives back
    std::string sha256;
};

std::vector<Swap> swaps() {
    const auto image = test::unpacked("hut-desk");
    std::vector<Swap> list;
    const auto truth = test::truth_of("hut-desk");
    for (const auto& file : truth["files"]) {
        if (!file.contains("recovered")) continue;
        Swap swap{file["path"], {}, file["recovered"]["size"], file["recovered"]["sha256"]};
        for (const auto& extent : file["extents"])
            swap.bytes.append(reinterpret_cast<const char*>(image.data()) + extent[0].get<std::size_t>(), extent[1]);
        swap.bytes.resize(file["size"]);
        list.push_back(std::move(swap));
    }
    return list;
}

std::optional<SwapText> read(const std::string& bytes) {
    const TextMedium medium(bytes, "swap");
    Budget budget;
    Reader reader(medium, budget);
    return text_of_vim_swap(reader);
}

TEST(VimSwap, GivesTheTextThatTheEditorGivesBack) {
    const auto all = swaps();
    ASSERT_EQ(all.size(), 3U);
    const test::TempFolder folder;
    for (const Swap& swap : all) {
        const auto text = read(swap.bytes);
        ASSERT_TRUE(text) << swap.path;
        EXPECT_EQ(text->missing, 0U);
        test::write_text(folder / "text", text->text);
        EXPECT_EQ(test::sha256_of(folder / "text"), swap.sha256) << swap.path;
        const std::string name = swap.path.substr(swap.path.rfind('/') + 2);  // without the point in front
        EXPECT_TRUE(text->path.ends_with("/" + name.substr(0, name.size() - 4))) << text->path;
    }
}

TEST(VimSwap, CutShortItSaysHowManyLinesAreMissing) {
    for (const Swap& swap : swaps()) {
        if (swap.bytes.size() < 65'536) continue;
        const auto text = read(swap.bytes.substr(0, 32'768));
        ASSERT_TRUE(text);
        EXPECT_GT(text->missing, 0U);
        EXPECT_GT(text->lines, 0U);
        EXPECT_LT(text->text.size(), swap.size);
    }
}

TEST(VimSwap, NoDamageLeadsItAstray) {
    std::minstd_rand chance(9);
    for (const Swap& swap : swaps())
        for (int n = 0; n < 400; ++n) {
            std::string damaged = swap.bytes;
            for (auto hits = 1 + chance() % 20; hits > 0; --hits)
                damaged[chance() % (chance() % 2 == 0 ? 9'000 : damaged.size())] = static_cast<char>(chance());
            if (chance() % 4 == 0) damaged.resize(chance() % damaged.size());
            const auto text = read(damaged);
            EXPECT_LE(text ? text->text.size() : 0, 4 * damaged.size());
        }
}

TEST(VimSwap, WhatIsNoneIsNotTakenForOne) {
    for (const char* text : {"", "b0", "b0VIM 9.0", "b0nano 7.2", "FWS\x06 a film"}) EXPECT_FALSE(read(text));
    const TextMedium film(std::string("FWS\x06") + std::string(2000, 'x'), "film");
    Budget budget;
    Reader reader(film, budget);
    EXPECT_FALSE(told_by_vim_swap(reader).is_one);
}

}  // namespace
}  // namespace dredger::lives
