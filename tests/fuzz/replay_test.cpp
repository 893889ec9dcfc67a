// What fuzzing has found, or came furthest with, is read again by every run of the tests.
#include <filesystem>
#include <gtest/gtest.h>

#include "fuzz/targets.h"
#include "support/support.h"

namespace dredger::fuzz {
namespace {

class Corpus : public testing::TestWithParam<Target> {};

TEST_P(Corpus, IsReadWithoutHarm) {
    const std::filesystem::path folder = std::filesystem::path(DREDGER_CORPUS) / GetParam().name;
    unsigned read = 0;
    if (std::filesystem::exists(folder))
        for (const auto& file : std::filesystem::directory_iterator(folder)) {
            SCOPED_TRACE(file.path().filename());
            GetParam().run(test::bytes_of(test::read_text(file.path())));
            ++read;
        }
    EXPECT_GT(read, 0U) << folder;
    GetParam().run({});
}

INSTANTIATE_TEST_SUITE_P(Targets, Corpus, testing::ValuesIn(targets().begin(), targets().end()),
                         [](const auto& target) { return std::string(target.param.name); });

}  // namespace
}  // namespace dredger::fuzz
