#include <CLI/CLI.hpp>
#include <algorithm>
#include <fcntl.h>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <span>
#include <unistd.h>

#include "base/stream_decoder.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/shipped.h"
#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

constexpr const char* kMedium = "ringing-station-drive.img.zst";
constexpr const char* kMacStick = "wardens-mac-stick.img.zst";
constexpr const char* kDesk = "hut-desk.img.zst";
constexpr const char* kMail = "station-mail.mbox.zst";

Result<fs::path> demo_file(const char* name) {
    using Path = fs::path;
    Path place = shipped({Path("../demo") / name, Path("../../demo") / name, Path("../share/dredger/demo") / name,
                          Path(DREDGER_INSTALLED_DEMO) / name});
    if (!place.empty()) return place;
    return fail(ErrorKind::unreadable, "the demo medium is missing", name,
                "it belongs into the folder demo beside the build");
}

// Blocks of zeros stay holes.
Result<void> unpack(const fs::path& packed_file, const fs::path& image) {
    std::ifstream in(packed_file, std::ios::binary);
    std::ofstream out(image, std::ios::binary | std::ios::trunc);
    StreamDecoder decoder(Packing::zstd);
    std::vector<char> from(128 << 10);
    std::uint64_t size = 0;
    while (in) {
        in.read(from.data(), static_cast<std::streamsize>(from.size()));
        const auto packed = std::as_bytes(std::span(from)).first(static_cast<std::size_t>(in.gcount()));
        std::size_t used = 0;
        const auto state = decoder.feed(packed, used, [&](std::span<const std::byte> bytes) {
            if (std::all_of(bytes.begin(), bytes.end(), [](std::byte b) { return b == std::byte{0}; }))
                out.seekp(static_cast<std::streamoff>(bytes.size()), std::ios::cur);
            else
                out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
            size += bytes.size();
        });
        if (state == StreamDecoder::State::failed || used < packed.size())
            return fail(ErrorKind::not_understood, "the demo medium is damaged", packed_file.string());
    }
    out.close();
    std::error_code failed;
    fs::resize_file(image, size, failed);
    if (!out || failed)
        return fail(ErrorKind::output, "the demo medium can't be unpacked here", image.string(),
                    "choose another folder with --to");
    return {};
}

int step(const char* why, const std::vector<std::string>& words) {
    tell("\n{}\n", styled(why, Style::bold));
    return run_shown(words);
}

int demo(const fs::path& folder) {
    manner().pages = false;  // it goes on by itself
    std::error_code failed;
    fs::create_directories(folder, failed);
    if (failed)
        return report({ErrorKind::output, "the folder can't be made: " + failed.message(), folder.string(),
                       "choose another one with --to"});
    const auto packed = demo_file(kMedium);
    if (!packed) return report(packed.error());
    const auto packed_stick = demo_file(kMacStick);
    if (!packed_stick) return report(packed_stick.error());
    const auto packed_desk = demo_file(kDesk);
    if (!packed_desk) return report(packed_desk.error());
    const auto packed_mail = demo_file(kMail);
    if (!packed_mail) return report(packed_mail.error());
    const auto damaged = demo_file("damaged");
    if (!damaged) return report(damaged.error());
    const fs::path drive = folder / "ringing-station-drive.img";
    const fs::path stick = folder / "wardens-mac-stick.img";
    const fs::path stick_catalog = folder / "mac.dredge";
    const fs::path desk = folder / "hut-desk.img";
    const fs::path desk_catalog = folder / "desk.dredge";
    const fs::path mail = folder / "station-mail.mbox";
    const fs::path mail_catalog = folder / "mail.dredge";
    const fs::path letters = folder / "letters";
    const fs::path logs = folder / "logs";
    const fs::path photos = folder / "photos";
    const fs::path image = folder / "copy.img";
    const fs::path picks = folder / "picks.csv";
    const fs::path catalog = folder / "station.dredge";
    const fs::path restored = folder / "restored";
    const fs::path broken = folder / "damaged";
    const fs::path mended = folder / "mended";
    const fs::path look = folder / "before-and-after";
    tell(
        "A seabird ringing station's drive. Its first volume is the camera's card: a survey folder, photos, recordings "
        "and logs were deleted, then new photos were taken. The second is the office's: some of it lies in the bin, "
        "some was deleted for good, and a new letter was written. The third is the hut's server, and between them "
        "lies the end of an older volume. Unpacking it to {}\n",
        drive.string());
    if (const auto unpacked = unpack(*packed, drive); !unpacked) return report(unpacked.error());
    if (const auto unpacked = unpack(*packed_stick, stick); !unpacked) return report(unpacked.error());
    if (const auto unpacked = unpack(*packed_desk, desk); !unpacked) return report(unpacked.error());
    if (const auto unpacked = unpack(*packed_mail, mail); !unpacked) return report(unpacked.error());
    for (const fs::path& old : {restored, broken, mended, look, logs, letters, photos}) fs::remove_all(old, failed);
    fs::copy(*damaged, broken, failed);
    if (failed)
        return report({ErrorKind::output, "the damaged files can't be copied: " + failed.message(), broken.string(),
                       "choose another folder with --to"});
    for (const fs::path& old : {catalog, stick_catalog, desk_catalog, mail_catalog})
        for (const char* ending : {"", "-wal", "-shm"}) fs::remove(old.string() + ending, failed);
    for (const fs::path& old : {image, fs::path(image.string() + ".areas.json"), picks}) fs::remove(old, failed);

    const std::vector<std::pair<const char*, std::vector<std::string>>> steps = {
        {"1. Copy first: what is read again is the copy, not the drive.", {"image", drive.string(), image.string()}},
        {"2. What is on it?", {"survey", image.string()}},
        {"3. Find what was deleted.", {"scan", image.string(), "-c", catalog.string()}},
        {"4. What lies in the bin?", {"list", catalog.string(), "--state", "trashed"}},
        {"5. Look through what was deleted, best prospect first.", {"list", catalog.string(), "--state", "deleted"}},
        {"6. One of them in detail: a photo whose start was overwritten.", {"show", catalog.string(), "32"}},
        {"7. The photos of the nests back at once: what is gone is left out, and said.",
         {"restore", catalog.string(), "--folder", "DCIM", "--to", photos.string()}},
        {"8. Search the surface too: an older volume's files have no record left.",
         {"scan", "--deep", image.string(), "-c", catalog.string()}},
        {"9. What was found by its content alone?", {"list", catalog.string(), "--origin", "signature"}},
        {"10. Put what is wanted on a list.", {"picks", "add", picks.string(), catalog.string(), "--prospect", "88.."}},
        {"11. Restore what is on it, with names, folders and dates.",
         {"restore", "--picks", picks.string(), "--to", restored.string()}},
        {"12. The stick of the warden's Mac: its trash, and what was deleted.",
         {"scan", stick.string(), "-c", stick_catalog.string()}},
        {"13. Names, places and content come from what is left of its catalog.", {"list", stick_catalog.string()}},
        {"14. The hut's computer crashed while its logs were open: what else stands of them?",
         {"scan", desk.string(), "-c", desk_catalog.string()}},
        {"15. All lives of one log, the newest first: the editor's swap file has what was never saved.",
         {"versions", desk_catalog.string(), "--name", "May.txt"}},
        {"16. The swap files, as the texts that they hold.",
         {"restore", desk_catalog.string(), "--role", "swap", "--as-original", "--to", logs.string()}},
        {"17. The station's mailbox: what was deleted in it is still there.",
         {"scan", mail.string(), "-c", mail_catalog.string()}},
        {"18. The deleted messages and what was attached to them.", {"list", mail_catalog.string()}},
        {"19. One of them, as people read it.", {"show", mail_catalog.string(), "9"}},
        {"20. All letters about the nests back, also as a mailbox that any mail program takes in.",
         {"restore", mail_catalog.string(), "--subject", "nest", "--mail", "mbox", "--to", letters.string()}},
        {"21. Some things came back broken: mend them. A sound film of the same camera helps one that was never "
         "finished.",
         {"repair", broken.string(), "--to", mended.string(), "--look", look.string()}},
    };
    for (const auto& [why, words] : steps) {
        const int code = step(why, words);
        // Not all of it can be mended, and not all is whole.
        if (code != kDone && code != kDoneInPart) return code;
    }
    tell(
        "\n{}\n  drive    {}\n  copy     {}\n  catalog  {}\n  picks    {}\n  files    {}\n  mended   {}\n  stick    "
        "{}\n  desk     {}\n  logs     {}\n  mail     {}\n  letters  {}\n",
        styled("Where everything is", Style::bold), drive.string(), image.string(), catalog.string(), picks.string(),
        restored.string(), mended.string(), stick.string(), desk.string(), logs.string(), mail.string(),
        letters.string());
    tell("\nLook at the finds with any program, without a restore:\n");
    tell_next(fmt::format("mkdir finds && dredger mount {} finds --by-prospect", as_word(catalog.string())), "  ");
    tell("\nThe whole job by questions; give it {} when it asks for the drive:\n", image.string());
    tell_next(fmt::format("dredger guide --to {}", as_word(folder.string())), "  ");
    return kDone;
}

}  // namespace

void add_demo(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("demo", "Do the whole job on the shipped demo medium");
    auto folder = std::make_shared<std::string>("dredger-demo");
    command
        ->add_option("--to", *folder,
                     "folder for the drive, the catalog and the restored files (default: dredger-demo)")
        ->type_name("FOLDER");
    command->footer(
        "Examples:\n"
        "  dredger demo\n"
        "  dredger demo --to /tmp/try");
    command->callback([folder, &exit_code] { exit_code = demo(*folder); });
}

}  // namespace dredger::cli
