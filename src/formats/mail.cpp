// Mail: single messages and mailboxes (RFC 5322, RFC 4155).
#include <algorithm>
#include <array>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/characters.h"
#include "formats/families.h"
#include "formats/mail_header.h"

namespace dredger::formats {

using namespace std::string_view_literals;

namespace {

constexpr std::array kFirstFields = {
    "return-path:", "received:", "delivered-to:", "message-id:",     "mime-version:",  "x-mozilla-status:", "from:",
    "date:",        "subject:",  "to:",           "dkim-signature:", "x-original-to:", "content-type:",     "x-"};

// The bytes of a block of header fields from `at` on, with the empty line behind it; 0 where there is none. `known`
// counts the fields that every mail has.
std::uint64_t header_block(Reader& content, std::uint64_t at, unsigned& known) {
    const std::uint64_t start = at;
    known = 0;
    for (unsigned lines = 0; lines < 2000; ++lines) {
        const auto end = content.find("\n", at, std::min(content.size(), at + 4096));
        if (!end) return 0;
        const std::string line = content.text(at, static_cast<std::size_t>(*end - at));
        at = *end + 1;
        if (line.empty() || line == "\r") return lines == 0 ? 0 : at - start;
        if (line[0] == ' ' || line[0] == '\t') {
            if (lines == 0) return 0;
            continue;
        }
        const std::size_t colon = line.find(':');
        if (colon == std::string::npos || colon == 0 || colon > 76) return 0;
        for (std::size_t i = 0; i < colon; ++i)
            if (line[i] <= ' ' || line[i] > '~') return 0;
        const std::string name = folded(line.substr(0, colon + 1));
        for (const std::string_view wanted :
             {"from:", "to:", "date:", "subject:", "message-id:", "received:", "mime-version:", "return-path:"})
            known += name == wanted ? 1 : 0;
    }
    return 0;
}

unsigned bid_eml(ByteView head) {
    return std::any_of(kFirstFields.begin(), kFirstFields.end(),
                       [&](std::string_view field) { return begins_with(head, field); })
               ? 20
               : 0;
}

Measured measure_eml(Reader& content) {
    unsigned known = 0;
    const std::uint64_t body = header_block(content, 0, known);
    if (body == 0 || known < 3) return nonsense();
    const std::uint64_t limit = end_of_characters(content, 0);
    if (limit <= body) return nonsense();
    // A mail of several parts ends with the last line between them.
    const std::string header = content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(body, 65536)));
    const std::size_t at = folded(header).find("boundary=");
    if (at != std::string::npos && folded(header).size() == header.size()) {
        std::string line = header.substr(at + 9, 80);
        line = line[0] == '"' ? line.substr(1, line.find('"', 1) - 1) : line.substr(0, line.find_first_of("; \r\n"));
        const std::string last = fmt::format("--{}--", line);
        if (last.size() <= 64) {
            const auto end = content.find(last, body, limit);
            if (!end) return broken(limit, "its last part is missing");
            std::uint64_t behind = behind_line_end(content, *end + last.size());
            // Some writers end with an empty line more.
            const std::uint64_t next = behind_line_end(content, behind);
            if (next == limit) behind = next;
            return whole(behind, Proof::chain);
        }
    }
    return open_ended(limit, Proof::chain);
}

unsigned bid_mbox(ByteView head) {
    if (!head.has(0, "From ")) return 0;
    const auto end = std::find(head.bytes().begin(), head.bytes().end(), std::byte{'\n'});
    const auto length = static_cast<std::size_t>(end - head.bytes().begin());
    return length > 12 && length < 256 ? 48 : 0;
}

Measured take_mbox_apart(Reader& content, const PartSink& sink) {
    const auto first = content.find("\n", 0, 512);
    unsigned known = 0;
    if (!first || header_block(content, *first + 1, known) == 0 || known < 2) return nonsense();
    const std::uint64_t end = end_of_characters(content, 0);
    PartTeller parts(sink);
    // A message begins behind a line that says from whom it is (RFC 4155).
    for (std::uint64_t at = 0; parts.is_wanted() && at < end;) {
        const std::uint64_t next = content.find("\nFrom ", at, end).value_or(end - 1) + 1;
        const std::uint64_t line_end = std::min(content.find("\n", at, next).value_or(next - 1) + 1, next);
        parts.tell({"message", "", {{line_end, next - line_end}}, Packing::none, next - line_end});
        at = next;
    }
    return open_ended(end, Proof::chain);
}

Description describe_eml(Reader& content, std::uint64_t) {
    unsigned known = 0;
    const std::uint64_t body = header_block(content, 0, known);
    const MailHeader header =
        read_mail_header(content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(body, Reader::kMaxText))));
    return {printable(header.subject), header.date, {}};
}

}  // namespace

std::vector<Format> mail_formats() {
    return {
        {.name = "mbox",
         .kind = Kind::mail,
         .extensions = {"mbox", "mbx"},
         .is_text = true,
         .bid = bid_mbox,
         .measure = measure_by<take_mbox_apart>,
         .take_apart = take_mbox_apart,
         .ending = "where text ends",
         .checked = "the header of the first message"},
        {.name = "eml",
         .kind = Kind::mail,
         .extensions = {"eml", "emlx"},
         .is_text = true,
         .bid = bid_eml,
         .measure = measure_eml,
         .describe = describe_eml,
         .ending = "its last part, or where text ends",
         .checked = "the header"},
    };
}

}  // namespace dredger::formats
