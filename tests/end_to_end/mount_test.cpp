// The finds as a folder, as programs see it: needs /dev/fuse and fusermount3, or nothing can be tried.
#include <algorithm>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <fcntl.h>
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sstream>
#include <sys/stat.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <thread>
#include <unistd.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using test::run_program;
using testing::HasSubstr;

class MountTest : public testing::Test {
  protected:
    std::string path(const std::string& name) const { return (folder_ / name).string(); }

    void SetUp() override {
        if (::access("/dev/fuse", R_OK | W_OK) != 0) GTEST_SKIP() << "there is no /dev/fuse here";
        fs::create_directories(folder_ / "finds");
        image_ = test::unpack_to("ringing-station-drive", folder_.path());
        ASSERT_EQ(run_program({"scan", image_.string(), "-c", path("drive.dredge")}).exit_code, 0);
    }
    void TearDown() override { end(SIGINT); }

    // Mounts in a process of its own; false where that is not possible here.
    bool mount(std::vector<std::string> more = {}) {
        const fs::path program = fs::read_symlink("/proc/self/exe").parent_path() / "dredger";
        std::vector<std::string> words = {program.string(), "mount", path("drive.dredge"), path("finds")};
        words.insert(words.end(), more.begin(), more.end());
        child_ = ::fork();
        if (child_ == 0) {
            std::vector<char*> pointers;
            for (std::string& word : words) pointers.push_back(word.data());
            pointers.push_back(nullptr);
            const int log = ::open(path("mount.log").c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
            ::dup2(log, STDOUT_FILENO);
            ::dup2(log, STDERR_FILENO);
            ::execv(pointers.front(), pointers.data());
            ::_exit(127);
        }
        for (unsigned n = 0; n < 600; ++n) {
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
            if (test::read_text(folder_ / "mount.log").find("mounted at") != std::string::npos) return true;
            if (::waitpid(child_, nullptr, WNOHANG) == child_) {
                child_ = 0;
                return false;
            }
        }
        return false;
    }
    // Its exit code.
    int end(int signal) {
        if (child_ <= 0) return -1;
        if (signal != 0) ::kill(child_, signal);
        int status = 0;
        ::waitpid(child_, &status, 0);
        child_ = 0;
        return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
    }
    std::map<std::string, std::string> sums_below(const std::string& folder) const {
        std::map<std::string, std::string> sums;
        for (const auto& entry : fs::recursive_directory_iterator(folder_ / folder))
            if (entry.is_regular_file() && !entry.is_symlink())
                sums[entry.path().lexically_relative(folder_ / folder).string()] = test::sha256_of(entry.path());
        return sums;
    }

    test::TempFolder folder_;
    fs::path image_;
    pid_t child_ = 0;
};

TEST_F(MountTest, EverySoundFindHasTheBytesOfARestore) {
    if (!mount({"--band", "sound"})) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
    ASSERT_EQ(run_program({"restore", path("drive.dredge"), "--band", "sound", "--to", path("out"), "--volume-folders"})
                  .exit_code,
              0);
    for (const char* book : {"manifest.csv", "SHA256SUMS", "restore.log"}) fs::remove(folder_ / "out" / book);
    const auto restored = sums_below("out"), mounted = sums_below("finds");
    EXPECT_GT(mounted.size(), 30U);
    for (const auto& [name, sum] : mounted) {
        const auto same = restored.find(name);
        ASSERT_NE(same, restored.end()) << name;
        EXPECT_EQ(same->second, sum) << name;
    }
    EXPECT_EQ(end(SIGINT), 0);
    EXPECT_TRUE(fs::is_empty(folder_ / "finds")) << "unmounted";
}

TEST_F(MountTest, TellsWhatIsKnownOfAFind) {
    if (!mount()) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
    const fs::path nest = folder_ / "finds/volume 1 RINGCARD/DCIM/100NESTS/NEST0002.JPG";
    char value[4096];
    const auto size = ::getxattr(nest.c_str(), "user.dredger.band", value, sizeof value);
    ASSERT_GT(size, 0);
    EXPECT_EQ(std::string(value, static_cast<std::size_t>(size)), "patchy");
    const auto names = ::listxattr(nest.c_str(), value, sizeof value);
    ASSERT_GT(names, 0);
    EXPECT_THAT(std::string(value, static_cast<std::size_t>(names)), HasSubstr("user.dredger.reasons"));
    EXPECT_EQ(::getxattr(nest.c_str(), "user.other", value, sizeof value), -1);
    EXPECT_FALSE(std::ofstream(nest).is_open()) << "nothing can be written";
    EXPECT_FALSE(fs::exists(folder_ / "finds/volume 1 RINGCARD/DCIM/no such file"));
}

TEST_F(MountTest, WhatCanNotBeHadIsAnErrorOrZeros) {
    // A copy that did not get all of the file.
    std::istringstream rows(
        run_program({"list", path("drive.dredge"), "--ext", "wav", "--volume", "1", "--as", "jsonl", "--extents"}).out);
    std::string line;
    ASSERT_TRUE(std::getline(rows, line));
    const json row = json::parse(line);
    const std::string name = row["path"];
    const auto begin = row["extents"][0][0].get<std::uint64_t>();
    const std::uint64_t lost = begin + 8192, all = fs::file_size(image_);
    test::write_text(image_.string() + ".areas.json", json{{"about", "what a copy made by dredger holds of its medium"},
                                                           {"size", all},
                                                           {"areas",
                                                            {{0, lost, "held", 1, 0},
                                                             {lost, 4096, "refused", 5, 4096},
                                                             {lost + 4096, all - lost - 4096, "held", 1, 0}}}}
                                                          .dump());
    for (const char* holes : {"error", "zeros"}) {
        if (!mount({"--holes", holes})) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
        const int file = ::open((folder_ / "finds/volume 1 RINGCARD" / name).c_str(), O_RDONLY);
        ASSERT_GE(file, 0);
        char byte = 1;
        EXPECT_EQ(::pread(file, &byte, 1, 0), 1);
        EXPECT_EQ(::pread(file, &byte, 1, 4096 + 100), 1) << "the page before";
        EXPECT_EQ(::pread(file, &byte, 1, 8192 + 100), std::string(holes) == "zeros" ? 1 : -1);
        ::close(file);
        EXPECT_EQ(end(SIGTERM), 0);
    }
}

TEST_F(MountTest, ManyReadAtOnceAndItUnmountsUnderLoad) {
    if (!mount()) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
    const auto before = sums_below("finds");
    std::vector<std::thread> readers;
    std::vector<int> wrong(8);
    for (std::size_t n = 0; n < wrong.size(); ++n)
        readers.emplace_back([&, n] {
            for (const auto& [name, sum] : before) wrong[n] += test::sha256_of(folder_ / "finds" / name) == sum ? 0 : 1;
        });
    for (std::thread& reader : readers) reader.join();
    EXPECT_EQ(std::count(wrong.begin(), wrong.end(), 0), 8);
    std::atomic<bool> stop = false;
    std::thread load([&] {
        while (!stop) {
            std::error_code failed;
            for (fs::recursive_directory_iterator at(folder_ / "finds", failed), end; !failed && at != end;
                 at.increment(failed)) {
                std::ifstream file(at->path());
                char bytes[512];
                file.read(bytes, sizeof bytes);
            }
        }
    });
    std::this_thread::sleep_for(std::chrono::milliseconds(200));
    ASSERT_EQ(std::system(("fusermount3 -u -z '" + path("finds") + "'").c_str()), 0);
    stop = true;
    load.join();
    EXPECT_EQ(end(0), 0);
}

TEST_F(MountTest, ProgramsOfATechnicianWorkOnIt) {
    if (!mount({"--band", "sound", "--by-prospect"})) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
    const std::string finds = "'" + path("finds") + "'";
    EXPECT_EQ(test::shell("find " + finds + " -name '*.flac' -size +80k").out,
              path("finds/volume 3 HUT/home/runa/Calls/Puffin growl.flac") + "\n");
    EXPECT_THAT(test::shell("grep -rl 'Moorings' " + finds).out, HasSubstr("volume 3 HUT/home/runa/Mail/Moorings.eml"));
    EXPECT_THAT(test::shell("ls -lR " + finds).out, HasSubstr("West cliff"));
    const std::string hut = finds + "'/volume 3 HUT'", copy = "'" + path("copy") + "'";
    const test::Said copied =
        test::shell("cp -r --preserve=timestamps " + hut + " " + copy + " && diff -r " + hut + " " + copy);
    EXPECT_EQ(copied.exit_code, 0) << copied.out;
    if (test::is_installed("rsync")) {
        const test::Said said = test::shell("rsync -a " + finds + "/ '" + path("synced") + "'");
        EXPECT_EQ(said.exit_code, 0) << said.out;
        EXPECT_EQ(test::shell("rsync -ani --checksum " + finds + "/ '" + path("synced") + "'").out, "");
        // As recorded: by a file system that knows it.
        struct stat facts {};
        ASSERT_EQ(::stat(path("synced/volume 2 OFFICE/Hut keys.txt").c_str(), &facts), 0);
        EXPECT_EQ(facts.st_mtim.tv_sec, 1776539100);
    }
    if (test::is_installed("ffprobe")) {
        EXPECT_THAT(
            test::shell("ffprobe -hide_banner " + finds + "'/volume 1 RINGCARD/Nest camera/cam2 2026-06-14 0410.mp4'")
                .out,
            HasSubstr("Duration"));
    }
    if (test::is_installed("soffice")) {
        const test::Said said = test::shell(
            "HOME='" + path("home") + "' soffice --headless --convert-to txt --outdir '" + path("converted") + "' " +
            finds + "'/volume 2 OFFICE/Grant application 2027/Project description.docx'");
        EXPECT_TRUE(fs::exists(folder_ / "converted/Project description.txt")) << said.out;
    }
}

TEST_F(MountTest, LinksByProspectLeadToTheFinds) {
    if (!mount({"--by-prospect"})) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
    std::map<std::string, std::size_t> links;
    for (const char* band : {"sound", "patchy"})
        for (const auto& entry : fs::directory_iterator(folder_ / "finds/By prospect" / band)) {
            ASSERT_TRUE(entry.is_symlink());
            ASSERT_TRUE(fs::is_regular_file(entry.path())) << fs::read_symlink(entry.path());
            char value[64];
            const auto size = ::getxattr(entry.path().c_str(), "user.dredger.band", value, sizeof value);
            EXPECT_EQ(std::string(value, static_cast<std::size_t>(std::max<ssize_t>(size, 0))), band);
            ++links[band];
        }
    EXPECT_GT(links["sound"], 40U);
    EXPECT_GT(links["patchy"], 0U);
}

TEST_F(MountTest, AMediumThatGoesAwayIsAnErrorAndNoHang) {
    if (!mount({"--band", "sound"})) GTEST_SKIP() << test::read_text(folder_ / "mount.log");
    const fs::path flac = folder_ / "finds/volume 3 HUT/home/runa/Calls/Puffin growl.flac";
    const int file = ::open(flac.c_str(), O_RDONLY);
    ASSERT_GE(file, 0);
    fs::resize_file(image_, 1 << 20);
    char byte = 0;
    EXPECT_EQ(::pread(file, &byte, 1, 40000), -1);
    EXPECT_EQ(errno, EIO);
    ::close(file);
    EXPECT_TRUE(fs::is_directory(folder_ / "finds/volume 3 HUT")) << "what was found can still be listed";
    EXPECT_EQ(end(SIGINT), 0);
}

TEST_F(MountTest, SaysWhatIsWrong) {
    test::write_text(folder_ / "finds/in the way", "x");
    EXPECT_THAT(run_program({"mount", path("drive.dredge"), path("finds")}).err, HasSubstr("this folder is not empty"));
    EXPECT_THAT(run_program({"mount", path("drive.dredge"), path("nowhere")}).err, HasSubstr("this is no folder"));
}

}  // namespace
}  // namespace dredger
