// What decoders of hostile content can do, and what not.
#include "preview/sandbox.h"

#include <arpa/inet.h>
#include <atomic>
#include <csignal>
#include <fcntl.h>
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <netinet/in.h>
#include <random>
#include <sys/ptrace.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "preview/decoders.h"
#include "support/support.h"

namespace dredger::preview {
namespace {

using test::MemoryMedium;

const MemoryMedium nothing(std::vector<std::byte>(1));

std::optional<std::string> answer_of(const std::function<std::string()>& job, const SandboxLimits& limits = {}) {
    return run_apart(
        nothing, [&](const Medium&) { return job(); }, limits);
}

TEST(Sandbox, GivesBackTheAnswer) {
    EXPECT_EQ(answer_of([] { return std::string("seen"); }), "seen");
    EXPECT_EQ(answer_of([] { return std::string(); }), "");
    const std::string long_answer(9'000'000, 'x');
    EXPECT_EQ(answer_of([&] { return long_answer; }), long_answer);
}

TEST(Sandbox, ContentComesThroughTheTieWithWhatCannotBeRead) {
    auto bytes = test::noise(1'000'000, 3);
    MemoryMedium content(bytes);
    content.make_unreadable({300'000, 1000});
    std::fill_n(bytes.begin() + 300'000, 1000, std::byte{0});
    const auto answer = run_apart(content, [](const Medium& told) {
        std::vector<std::byte> all(static_cast<std::size_t>(told.size()));
        std::vector<Extent> bad;
        const bool is_read = told.read(0, all, &bad).has_value();
        std::string text(reinterpret_cast<const char*>(all.data()), all.size());
        for (const Extent& lost : bad) text += " " + std::to_string(lost.offset) + "+" + std::to_string(lost.length);
        return text + (is_read ? " read" : " not read") + (told.read(999'999, std::span(all).first(2)) ? "?" : "");
    });
    std::string expected(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    EXPECT_TRUE(answer == expected + " 300000+1000 read");
}

TEST(Sandbox, OutlivesWhateverHappensInIt) {
    EXPECT_FALSE(answer_of([]() -> std::string { std::abort(); }));
    EXPECT_FALSE(answer_of([]() -> std::string { throw std::runtime_error("no"); }));
    EXPECT_FALSE(answer_of([]() -> std::string { ::_exit(3); }));
    EXPECT_FALSE(answer_of([] { return std::string(17 << 20, 'x'); })) << "more than anyone asked for";
    const auto endless = []() -> std::string {
        std::atomic<unsigned> turns = 0;
        for (;;) ++turns;
    };
    EXPECT_FALSE(answer_of(endless, {std::uint64_t{1} << 30, 1}));
    if (test::is_watched()) return;  // by what takes terabytes of address space
    EXPECT_FALSE(answer_of([] { return std::to_string(std::vector<char>(std::size_t{1} << 31, 'x').size()); },
                           {std::uint64_t{64} << 20, 5}));
}

// One that was taken over may write anything to its tie.
TEST(Sandbox, BelievesNothingThatComesThroughTheTie) {
    using Words = std::vector<std::uint64_t>;
    for (const Words& words :
         {Words{0, 0, 1U << 30}, Words{0, ~0ULL, 8}, Words{0, 1, 1}, Words{1, 0, ~0ULL}, Words{1, 0, 100, 7}}) {
        EXPECT_FALSE(answer_of([&]() -> std::string {
            (void)!::write(kTie, words.data(), words.size() * sizeof words[0]);
            ::_exit(0);
        })) << words[0]
            << " " << words[2];
    }
}

// Each attempt tells that it came through; none does.
TEST(Sandbox, HasNothingToHarmAnybodyWith) {
    if (test::is_watched()) GTEST_SKIP() << "the sanitizers need more than is left to a confined process";
    if (!confinement_lacks().empty()) GTEST_SKIP() << confinement_lacks().front();
    const test::TempFolder folder;
    test::write_text(folder / "ringers.txt", "nobody's business");
    const std::string secret = (folder / "ringers.txt").string(), fresh = (folder / "new").string();
    const int first = ::open(secret.c_str(), O_RDWR);
    const int open_file = ::fcntl(first, F_DUPFD, 50);  // not the number of the tie
    ::close(first);
    const int listening = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in place{};
    place.sin_family = AF_INET;
    place.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    ASSERT_EQ(::bind(listening, reinterpret_cast<const sockaddr*>(&place), sizeof place), 0);
    ASSERT_EQ(::listen(listening, 1), 0);
    const pid_t parent = ::getpid();

    const auto what = answer_of([&]() -> std::string {
        std::string did;
        const auto attempt = [&](const char* name, bool came_through) {
            if (came_through) did += std::string(name) + " ";
        };
        attempt("read a file", ::open(secret.c_str(), O_RDONLY) >= 0);
        attempt("list a folder", ::open(folder.path().c_str(), O_RDONLY | O_DIRECTORY) >= 0);
        attempt("write a file", ::open(secret.c_str(), O_WRONLY) >= 0);
        attempt("make a file", ::open(fresh.c_str(), O_WRONLY | O_CREAT, 0600) >= 0);
        attempt("make a folder", ::mkdir(fresh.c_str(), 0700) == 0);
        attempt("remove a file", ::unlink(secret.c_str()) == 0);
        attempt("use what was open", ::write(open_file, "x", 1) == 1);
        attempt("make a socket", ::socket(AF_INET, SOCK_STREAM, 0) >= 0);
        attempt("use a socket", ::accept(listening, nullptr, nullptr) >= 0);
        attempt("fork", ::fork() >= 0);
        attempt("become a program", ::execl("/bin/true", "true", nullptr) == 0);
        attempt("trace", ::ptrace(PTRACE_ATTACH, parent, nullptr, nullptr) == 0);
        attempt("send a signal", ::kill(parent, 0) == 0);
        attempt("be root", ::geteuid() == 0);
        attempt("become root", ::setuid(0) == 0);
        return "tried: " + did;
    });
    EXPECT_EQ(what, "tried: ");
    EXPECT_EQ(test::read_text(secret), "nobody's business");
    ::close(open_file);
    ::close(listening);
}

// Whatever a decoder makes of damage, the run goes on.
TEST(Sandbox, DamagedSamplesCostOnlyThemselves) {
    std::mt19937 random(11);
    for (const auto& [name, bytes] : test::samples()) {
        auto damaged = bytes;
        for (auto blows = 3 + random() % 20; blows > 0; --blows)
            damaged[random() % damaged.size()] = static_cast<std::byte>(random());
        const MemoryMedium content(std::move(damaged));
        (void)run_apart(content, [](const Medium& told) {
            (void)decode_picture(told, 64);
            (void)decode_film(told, 2, 64);
            (void)decode_sound(told);
            (void)decode_first_page(told, 64);
            return std::string("done");
        });
    }
    EXPECT_EQ(answer_of([] { return std::string("still here"); }), "still here");
}

}  // namespace
}  // namespace dredger::preview
