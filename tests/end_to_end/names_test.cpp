// Names as real drivers wrote them, from the medium to the destination and back.
#include "restoring/names.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "base/csv.h"
#include "base/text.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Ran;
using test::run_program;
using test::TempFolder;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

// Names that are no text, steer terminals, or mean something to other systems: each file comes back, and its name can
// be told from the one it got.
TEST(NamesOnAMedium, OfAnySortComeBack) {
    const TempFolder folder;
    const auto path = [&](const std::string& name) { return (folder / name).string(); };
    const std::string image = test::unpack_to("ext4-names", folder.path()).string();
    ASSERT_EQ(run_program({"scan", image, "-c", path("a.dredge")}).exit_code, 0);
    const auto raw = [](const std::string& hex) {
        std::string bytes;
        for (std::size_t at = 0; at < hex.size(); at += 2)
            bytes += static_cast<char>(std::stoi(hex.substr(at, 2), nullptr, 16));
        return bytes;
    };
    const auto truth = test::truth_of("ext4-names");
    for (const char* names : {"windows", "unix"}) {
        const std::string out = path(names);
        for (int run = 0; run < 2; ++run) {
            const Ran ran =
                run_program({"restore", path("a.dredge"), "--state", "live,deleted", "--names", names, "--to", out});
            EXPECT_EQ(ran.exit_code, 0) << ran.err;
            if (run == 0) continue;
            EXPECT_THAT(ran.out, HasSubstr("40 already"));
        }
        std::map<std::string, std::map<std::string, std::string>> rows;  // by the sum
        auto manifest = parse_csv(test::read_text(fs::path(out) / "manifest.csv")).value();
        for (auto& row : manifest)
            if (!row["sha256"].empty()) rows[row["sha256"]] = row;
        for (const auto& file : truth["files"]) {
            if (file["directory"]) continue;
            const std::string original = raw(file["path_hex"]);
            auto row = rows[file["sha256"]];
            EXPECT_EQ(row["original_path"], valid_utf8(original));
            EXPECT_EQ(row["state"], file["state"]) << row["original_path"];
            const fs::path restored = row["restored_path"];
            EXPECT_EQ(test::sha256_of(fs::path(out) / restored), file["sha256"]) << restored;
            const std::string name = original.substr(original.rfind('/') + 1);
            const std::string wanted = mapped_part(name, names == std::string("windows") ? kWindowsNames : kUnixNames);
            const bool has_number = restored.stem().string().ends_with(")");  // of those that differ in case only
            if (has_number) continue;
            EXPECT_EQ(restored.filename(), wanted);
            if (name.size() >= 240) continue;
            EXPECT_EQ(original_part(restored.filename().string()), name);
        }
    }
    // What is shown of them can do no harm.
    const std::string list = run_program({"list", path("a.dredge"), "--state", "deleted"}).out;
    EXPECT_THAT(list, AllOf(HasSubstr("caf\uFFFD r\uFFFDserve.txt"), Not(HasSubstr("\x1b[31m"))));
}

}  // namespace
}  // namespace dredger
