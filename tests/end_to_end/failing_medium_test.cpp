// The program over a medium whose reads fail: needs /dev/fuse, or nothing can be tried.
#include <csignal>
#include <filesystem>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sys/wait.h>
#include <thread>
#include <unistd.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::run_program;
using testing::AllOf;
using testing::HasSubstr;

class FailingMediumTest : public testing::Test {
  protected:
    void SetUp() override {
        if (::access("/dev/fuse", R_OK | W_OK) != 0) GTEST_SKIP() << "there is no /dev/fuse here";
        image_ = test::unpack_to("fat16-card", folder_.path());
        fs::create_directory(folder_ / "bus");
        faults("");
        server_ = ::fork();
        if (server_ == 0) {
            ::execl(DREDGER_FAULTY_MEDIUM, "faulty_medium", image_.c_str(), to("faults").c_str(), to("bus").c_str(),
                    nullptr);
            ::_exit(127);
        }
        for (unsigned n = 0; n < 200 && !fs::exists(folder_ / "bus/medium.img"); ++n)
            std::this_thread::sleep_for(std::chrono::milliseconds(25));
        if (!fs::exists(folder_ / "bus/medium.img")) GTEST_SKIP() << "nothing can be mounted here";
    }
    void TearDown() override {
        if (server_ <= 0) return;
        ::kill(server_, SIGTERM);
        ::waitpid(server_, nullptr, 0);
    }

    std::string to(const std::string& name) const { return (folder_ / name).string(); }
    std::string medium() const { return to("bus/medium.img"); }
    void faults(const std::string& lines) const { test::write_text(folder_ / "faults", lines); }
    test::Ran scan(std::vector<std::string> more = {}) const {
        std::vector<std::string> words = {"scan", "--deep", medium(), "-c", to("card.dredge")};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words);
    }
    nlohmann::json photo() const {
        const auto listed =
            run_program({"list", to("card.dredge"), "--name", "NEST0003.JPG", "--as", "jsonl", "--extents"});
        return nlohmann::json::parse(listed.out);
    }

    test::TempFolder folder_;
    fs::path image_;
    pid_t server_ = -1;
};

TEST_F(FailingMediumTest, ALooseCableEndsAScanWhichGoesOnWhenItIsPluggedIn) {
    faults("gone");
    const auto gone = scan();
    EXPECT_EQ(gone.exit_code, 3) << gone.out;
    faults("");
    ASSERT_EQ(scan().exit_code, 0);
    faults("gone");
    const auto later = run_program({"scan", "--deep", "--inside", medium(), "-c", to("card.dredge")});
    EXPECT_EQ(later.exit_code, 3) << later.out;
    faults("");
    EXPECT_EQ(photo()["band"], "sound") << "what was known stays";
    EXPECT_EQ(scan().exit_code, 0);
}

// Drivers tell bad places in several ways.
TEST_F(FailingMediumTest, BadPlacesCountAsLostUntilTheyAnswer) {
    ASSERT_EQ(scan().exit_code, 0);
    const auto start = photo()["extents"][0][0].get<std::uint64_t>();
    EXPECT_EQ(photo()["band"], "sound");
    for (const int error : {EIO, ENODATA, EREMOTEIO, ETIMEDOUT}) {
        fs::remove(folder_ / "card.dredge");
        faults(std::to_string(start + 512) + " 1024 " + std::to_string(error));
        const auto worn = scan();
        EXPECT_EQ(worn.exit_code, 1) << error;
        EXPECT_THAT(worn.err, AllOf(HasSubstr("can't be read; what lies there counts as lost"), HasSubstr("--again")));
        EXPECT_NE(photo()["band"], "sound") << error;
        EXPECT_EQ(scan().exit_code, 1) << "nothing is asked for twice";
    }
    faults("");
    EXPECT_NE(photo()["band"], "sound");
    const auto again = scan({"--again"});
    EXPECT_EQ(again.exit_code, 0) << again.err;
    EXPECT_THAT(again.out, HasSubstr("that could not be read before were read again"));
    EXPECT_EQ(photo()["band"], "sound");
}

// Whenever it goes, what it could not give is not written, and comes with the next run.
TEST_F(FailingMediumTest, ARestoreWaitsForAMediumThatHasGone) {
    ASSERT_EQ(scan().exit_code, 0);
    const std::string original = test::sha256_of(image_);
    unsigned gone = 0;
    for (unsigned reads = 0; reads < 4000; reads += 1 + reads / 2) {
        const std::string out = to("out" + std::to_string(reads));
        const std::vector<std::string> words = {"restore", to("card.dredge"), "--prospect", "90..", "--to", out};
        faults("gone " + std::to_string(reads));
        const auto ran = run_program(words);
        if (ran.exit_code == 0) break;
        ++gone;
        EXPECT_EQ(ran.exit_code, 3) << reads << ran.err;
        EXPECT_THAT(ran.out, testing::Not(HasSubstr("partial: "))) << reads;
        faults("");
        const auto rest = run_program(words);
        EXPECT_EQ(rest.exit_code, 0) << reads << rest.out << rest.err;
        std::size_t files = 0;
        for (const auto& entry : fs::recursive_directory_iterator(out)) files += entry.is_regular_file() ? 1 : 0;
        EXPECT_GT(files, 10U);
    }
    EXPECT_GE(gone, 5U);
    EXPECT_EQ(test::sha256_of(image_), original);
}

}  // namespace
}  // namespace dredger
