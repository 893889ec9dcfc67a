#include "restoring/mailboxes.h"

#include <algorithm>
#include <fmt/format.h>
#include <fstream>
#include <map>

#include "base/beneath.h"
#include "base/text.h"
#include "base/times.h"
#include "restoring/manifest.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr const char* kUnfinished = ".mbox.new";

// "From - Mon Mar 02 09:15:00 2026": what stands before each message (RFC 4155).
std::string from_line(const std::string& modified) {
    constexpr const char* kMonths[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                       "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
    constexpr const char* kDays[] = {"Thu", "Fri", "Sat", "Sun", "Mon", "Tue", "Wed"};  // 1970-01-01 was a Thursday
    const FileTime when = parse_iso8601(modified).value_or(FileTime{});
    const std::string digits = iso8601({when.seconds, 0, FileTime::Clock::utc});
    const auto month = static_cast<std::size_t>(std::stoi(digits.substr(5, 2))) - 1;
    const std::int64_t day = when.seconds / 86'400 - (when.seconds % 86'400 < 0 ? 1 : 0);
    return fmt::format("From - {} {} {} {} {}\n", kDays[static_cast<std::size_t>((day % 7 + 7) % 7)],
                       kMonths[month % 12], digits.substr(8, 2), digits.substr(11, 8), digits.substr(0, 4));
}

bool is_quoted(const std::string& line) {
    const std::size_t sign = line.find_first_not_of('>');
    return sign != std::string::npos && line.compare(sign, 5, "From ") == 0;
}

bool add_message(const fs::path& message, const std::string& modified, std::ofstream& out) {
    std::ifstream in(message, std::ios::binary);
    if (!in) return false;
    out << from_line(modified);
    for (std::string line; std::getline(in, line);) {
        if (line.ends_with('\r')) line.pop_back();
        if (is_quoted(line)) out << '>';
        out << line << '\n';
    }
    out << '\n';
    return static_cast<bool>(out);
}

}  // namespace

Result<std::vector<WrittenMailbox>> write_mailboxes(const fs::path& destination) {
    DREDGER_TRY(const Manifest manifest, Manifest::read(destination));
    std::map<fs::path, std::map<fs::path, std::string>> folders;  // messages and their times
    for (const auto& [key, row] : manifest.rows())
        if (row.restored_bytes > 0 && extension_of(row.restored_path) == "eml")
            folders[fs::path(row.restored_path).parent_path()][row.restored_path] = row.modified;
    std::vector<WrittenMailbox> written;
    for (const auto& [folder, messages] : folders) {
        WrittenMailbox mailbox;
        mailbox.place = folder.empty() ? fs::path("messages.mbox") : fs::path(folder.string() + ".mbox");
        const fs::path unfinished = destination / kUnfinished;
        DREDGER_CHECK(refuse_link(unfinished));
        {
            std::ofstream out(unfinished, std::ios::binary | std::ios::trunc);
            for (const auto& [message, modified] : messages)
                mailbox.messages += add_message(destination / message, modified, out) ? 1 : 0;
            out.flush();
            if (!out)
                return not_written("the mailbox can't be written", unfinished.string(), "is the destination full?");
        }
        if (const auto failed = rename_beneath(unfinished, {destination, mailbox.place}))
            return fail(ErrorKind::output, "the mailbox can't get its name: " + failed.message(),
                        (destination / mailbox.place).string(), "move away what is there");
        written.push_back(std::move(mailbox));
    }
    return written;
}

}  // namespace dredger
