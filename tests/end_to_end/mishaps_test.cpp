// Every call with which a command changes something fails once, is cut short once, or is the last one; and the power
// goes at many moments. Whatever happens, nothing is claimed that is not so, and the same command makes it right.
#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/csv.h"
#include "support/stepping_in.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Mishap;
using test::run_program;
using test::run_stepping_in;
using testing::AnyOf;
using testing::HasSubstr;

using Files = std::map<std::string, std::string>;  // sums by path

class Job {
  public:
    explicit Job(const std::string& kind) : kind_(kind), image_(test::unpack_to("fat12-floppy", folder_.path())) {
        if (kind == "restore") run_program({"scan", image_.string(), "-c", catalog()});
    }

    std::vector<std::string> words(const fs::path& place) const {
        if (kind_ == "restore") return {"restore", catalog(), "--prospect", "90..", "--to", place.string()};
        if (kind_ == "scan") return {"scan", "--deep", image_.string(), "-c", (place / "floppy.dredge").string()};
        return {"image", image_.string(), (place / "copy.img").string()};
    }
    // In a place of its own.
    fs::path place(const std::string& name) const {
        fs::create_directories(folder_ / name);
        return fs::canonical(folder_ / name);
    }

    // What the job is for, made comparable.
    Files result(const fs::path& place) const {
        Files result;
        if (kind_ == "scan") {
            result["listed"] =
                run_program({"list", (place / "floppy.dredge").string(), "--as", "jsonl", "--extents"}).out;
            return result;
        }
        for (const auto& entry : fs::recursive_directory_iterator(place))
            if (entry.is_regular_file() && !is_a_book(entry.path()))
                result[entry.path().lexically_relative(place).generic_string()] = test::sha256_of(entry.path());
        return result;
    }

    // What the place says of itself is so.
    void expect_honest(const fs::path& place, const Files& right) const {
        if (kind_ == "image") return;
        if (kind_ == "scan") {
            const auto listed = run_program({"list", (place / "floppy.dredge").string()});
            EXPECT_THAT(listed.exit_code, AnyOf(0, 1, 2, 3, 4)) << listed.err;
            return;
        }
        for (const auto& [name, sum] : result(place))
            if (right.contains(name)) {
                EXPECT_EQ(sum, right.at(name)) << name;
            }
        if (!fs::exists(place / "SHA256SUMS")) return;
        const auto checked =
            test::shell("cd '" + place.string() + "' && sha256sum --check --strict --quiet SHA256SUMS");
        EXPECT_EQ(checked.exit_code, 0) << checked.out;
    }

    // The same command again, with nothing in its way.
    void expect_made_right(const fs::path& place, const Files& right) const {
        const auto again = run_program(words(place));
        EXPECT_EQ(again.exit_code, 0) << again.out << again.err;
        EXPECT_EQ(result(place), right);
        expect_honest(place, right);
        if (kind_ != "restore") return;
        std::size_t whole = 0;
        for (const auto& row : parse_csv(test::read_text(place / "manifest.csv")).value())
            whole += row.at("sha256").empty() ? 0 : 1;
        EXPECT_EQ(whole, right.size());
    }

  private:
    std::string catalog() const { return (folder_ / "floppy.dredge").string(); }
    static bool is_a_book(const fs::path& file) {
        const std::string name = file.filename();
        return name == "manifest.csv" || name == "SHA256SUMS" || name == "restore.log" || file.extension() == ".json";
    }

    test::TempFolder folder_;
    std::string kind_;
    fs::path image_;
};

class MishapsTest : public testing::TestWithParam<const char*> {
  protected:
    void SetUp() override {
        // What looks for leaks at the end of a process can't do so in one that is traced.
        if (!test::can_step_in() || test::is_watched()) GTEST_SKIP() << "processes can't be traced here";
        const auto undisturbed = run_stepping_in(job_.words(job_.place("right")), job_.place("right"));
        ASSERT_EQ(undisturbed.ran.exit_code, 0) << undisturbed.ran.err;
        right_ = job_.result(job_.place("right"));
        calls_ = undisturbed.calls;
        changes_ = undisturbed.changes;
        ASSERT_GT(calls_, 5U);
    }

    // One mishap of this kind at each of the calls, in as many runs; of a scan, which makes many that are alike, at
    // some, others for each kind.
    template <typename Expect>
    void at_every_call(Mishap mishap, const Expect& expect) {
        const unsigned step = calls_ > 100 ? 4 : 1;
        for (mishap.at = 1 + static_cast<unsigned>(mishap.kind) % step; mishap.at <= calls_; mishap.at += step) {
            SCOPED_TRACE("call " + std::to_string(mishap.at) + " of " + std::to_string(calls_));
            const fs::path place = job_.place("at" + std::to_string(mishap.at));
            const auto disturbed = run_stepping_in(job_.words(place), place, mishap);
            expect(disturbed.ran);
            job_.expect_honest(place, right_);
            job_.expect_made_right(place, right_);
            fs::remove_all(place);
            if (HasFailure()) return;  // the others would say the same
        }
    }

    Job job_{GetParam()};
    Files right_;
    unsigned calls_ = 0;
    std::vector<test::Change> changes_;
};

TEST_P(MishapsTest, AFullDriveIsToldAndTheRestComesLater) {
    at_every_call({Mishap::Kind::error, 0, ENOSPC}, [](const test::Ran& ran) {
        EXPECT_THAT(ran.exit_code, AnyOf(0, 1)) << ran.err;
        if (ran.exit_code != 0) {
            EXPECT_THAT(ran.err + ran.out, AnyOf(HasSubstr("room"), HasSubstr("No space left"), HasSubstr("is full")));
        }
    });
}

TEST_P(MishapsTest, ADriveThatFailsIsTold) {
    at_every_call({Mishap::Kind::error, 0, EIO}, [](const test::Ran& ran) {
        EXPECT_THAT(ran.exit_code, AnyOf(0, 1)) << ran.err;
        EXPECT_LE(std::count(ran.err.begin(), ran.err.end(), '\n'), 3) << ran.err;
    });
}

TEST_P(MishapsTest, AWriteThatWritesAPartIsGoneOnWith) {
    at_every_call({Mishap::Kind::part, 0, 0}, [](const test::Ran& ran) { EXPECT_EQ(ran.exit_code, 0) << ran.err; });
}

TEST_P(MishapsTest, KilledAnywhereItGoesOn) {
    at_every_call({Mishap::Kind::end, 0, 0}, [](const test::Ran& ran) { EXPECT_EQ(ran.exit_code, 137) << ran.err; });
}

TEST_P(MishapsTest, WhatAPowerCutLeavesIsMadeRight) {
    test::PowerCut drive;
    const std::size_t step = changes_.size() > 100 ? 4 : 1;
    for (std::size_t n = 0; n < changes_.size(); ++n) {
        drive.apply(changes_[n]);
        if (n % step != 0) continue;
        for (const auto unsaved : {test::PowerCut::Unsaved::zeros, test::PowerCut::Unsaved::missing}) {
            SCOPED_TRACE("behind change " + std::to_string(n + 1) + " of " + std::to_string(changes_.size()));
            const fs::path place = job_.place("cut");
            drive.lay_out(place, unsaved);
            job_.expect_made_right(place, right_);
            fs::remove_all(place);
            if (HasFailure()) return;
        }
    }
}

INSTANTIATE_TEST_SUITE_P(Of, MishapsTest, testing::Values("restore", "scan", "image"),
                         [](const auto& job) { return std::string(job.param); });

}  // namespace
}  // namespace dredger
