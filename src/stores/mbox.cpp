// Mailboxes: one message behind the other in one text file (RFC 4155). What quotes lines that begin with "From ", and
// what tells a message's length instead, are habits of the programs that write them.
#include <algorithm>
#include <charconv>

#include "base/text.h"
#include "formats/reader.h"
#include "stores/families.h"
#include "stores/standing.h"

namespace dredger::stores {
namespace {

constexpr std::size_t kMaxHeader = 256 << 10;  // bytes
constexpr std::uint64_t kMozillaExpunged = 0x0008, kMozillaImapDeleted = 0x00200000;

std::string field_of(const std::string& header, std::string_view name) {
    const std::string small = folded(header), wanted = "\n" + std::string(name) + ":";
    if (small.size() != header.size()) return {};
    const std::size_t at = ("\n" + small).find(wanted);
    if (at == std::string::npos) return {};
    const std::size_t from = at + wanted.size() - 1, end = std::min(header.find('\n', from), header.size());
    std::string value = header.substr(from, end - from);
    value.erase(0, value.find_first_not_of(" \t"));
    while (!value.empty() && (value.back() == '\r' || value.back() == ' ')) value.pop_back();
    return value;
}

std::optional<std::uint64_t> number_in(const std::string& text, int base) {
    std::uint64_t value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
    return error == std::errc() && end == text.data() + text.size() ? std::optional(value) : std::nullopt;
}

class MailboxFile final : public StandingStore {
  public:
    explicit MailboxFile(MediumPtr file) : StandingStore(std::move(file), "mbox") {}

    void each(const Sink& sink) const override {
        Budget budget(Budget::Limits{~std::uint64_t{0}, 0, ~std::uint64_t{0}, 0});
        Reader content(*file(), budget);
        std::uint64_t at = content.has(0, "From ") ? 0 : next_from(content, 0);
        while (at < content.size()) {
            std::uint64_t end = 0;
            auto standing = message_at(content, at, end);
            if (standing && !sink(std::move(*standing), at)) return;
            at = std::max(end, at + 1);
        }
    }

    std::optional<Standing> find(std::uint64_t number) const override {
        Budget budget(Budget::Limits{~std::uint64_t{0}, 0, ~std::uint64_t{0}, 0});
        Reader content(*file(), budget);
        std::uint64_t end = 0;
        return content.has(number, "From ") ? message_at(content, number, end) : std::nullopt;
    }

  private:
    // Whether a message begins with this line: someone, and then a time of day.
    static bool begins_message(Reader& content, std::uint64_t at) {
        const std::string line = content.text(at, 256);
        const std::size_t end = line.find('\n');
        if (!line.starts_with("From ") || end == std::string::npos) return false;
        const std::size_t colon = line.find(':');
        return colon != std::string::npos && colon < end && colon > 5 &&
               std::isdigit(static_cast<unsigned char>(line[colon - 1])) != 0;
    }

    // Where the next message begins; the end where there is none.
    static std::uint64_t next_from(Reader& content, std::uint64_t at) {
        while (const auto found = content.find("\nFrom ", at, content.size())) {
            if (begins_message(content, *found + 1)) return *found + 1;
            at = *found + 1;
        }
        return content.size();
    }

    static std::optional<Standing> message_at(Reader& content, std::uint64_t at, std::uint64_t& end) {
        const std::uint64_t start = content.find("\n", at, content.size()).value_or(content.size() - 1) + 1;
        end = next_from(content, start > 0 ? start - 1 : 0);
        if (start >= content.size()) return std::nullopt;
        std::string header =
            content.text(start, static_cast<std::size_t>(std::min<std::uint64_t>(kMaxHeader, end - start)));
        std::size_t blank = header.find("\n\n");
        const std::size_t other = header.find("\n\r\n");
        blank = std::min(blank == std::string::npos ? header.size() : blank + 2,
                         other == std::string::npos ? header.size() : other + 3);
        header.resize(blank);
        Standing standing;
        standing.number = at;
        const auto length = number_in(field_of(header, "content-length"), 10);
        bool is_quoted = true;
        if (length && *length < content.size()) {
            const std::uint64_t behind = start + blank + *length;
            const std::uint64_t line = behind_line(content, behind);
            if (behind <= content.size() && (line >= content.size() || begins_message(content, line))) {
                end = line;
                standing.where = {{start, behind - start}};
                is_quoted = false;
            }
        }
        if (is_quoted) standing.where = unquoted(content, start, without_last_line(content, start, end));
        const auto mozilla = number_in(field_of(header, "x-mozilla-status"), 16);
        const auto mozilla2 = number_in(field_of(header, "x-mozilla-status2"), 16);
        const std::string flags = field_of(header, "x-status");
        if ((mozilla && (*mozilla & kMozillaExpunged) != 0) || (mozilla2 && (*mozilla2 & kMozillaImapDeleted) != 0) ||
            flags.find('D') != std::string::npos) {
            standing.state = State::deleted;
            standing.notes.emplace_back("it is marked as deleted, and the mailbox was not compacted since");
        }
        return standing;
    }

    // Behind the end of the line, or the empty one, that stands at `at`.
    static std::uint64_t behind_line(Reader& content, std::uint64_t at) {
        if (content.has(at, "\r\n")) return at + 2;
        return content.has(at, "\n") ? at + 1 : at;
    }

    // An empty line stands between two messages, and is of neither.
    static std::uint64_t without_last_line(Reader& content, std::uint64_t start, std::uint64_t end) {
        if (end >= start + 4 && content.has(end - 4, "\r\n\r\n")) return end - 2;
        return end >= start + 2 && content.has(end - 2, "\n\n") ? end - 1 : end;
    }

    // How many signs of a quotation the line at `at` begins with.
    static std::uint64_t signs_at(Reader& content, std::uint64_t at, std::uint64_t end) {
        std::uint64_t behind = at;
        while (behind < end && content.has(behind, ">")) ++behind;
        return behind - at;
    }

    // A line that begins with "From " gets a sign in front of it; some programs give one to those that have signs, too.
    // Among lines that quote somebody it is one of these, and had its signs before.
    static bool is_of_a_quotation(Reader& content, std::uint64_t start, std::uint64_t line, std::uint64_t end) {
        constexpr std::uint64_t kFar = 4096;
        const std::uint64_t signs = signs_at(content, line, end);
        const std::uint64_t from = line > start + kFar ? line - kFar : start;
        const auto before = line >= start + 2 ? content.find_last("\n", from, line - 1) : std::nullopt;
        const auto next = content.find("\n", line, end);
        const bool is_before = before && signs_at(content, *before + 1, end) == signs;
        const bool is_behind = next && signs_at(content, *next + 1, end) == signs;
        return signs == 1 ? is_before && is_behind : is_before || is_behind;
    }

    static std::vector<Extent> unquoted(Reader& content, std::uint64_t start, std::uint64_t end) {
        std::vector<Extent> where;
        std::uint64_t from = start, at = start;
        while (const auto found = content.find("\n>", at, end)) {
            const std::uint64_t sign = *found + 1;
            at = sign + signs_at(content, sign, end);
            if (!content.has(at, "From ") || is_of_a_quotation(content, start, sign, end)) continue;
            where.push_back({from, sign - from});
            from = sign + 1;
        }
        if (end > from) where.push_back({from, end - from});
        return where;
    }
};

}  // namespace

Result<std::unique_ptr<MailStore>> open_mbox(MediumPtr file, bool is_told) {
    const auto start = file->size() >= 5 ? file->bytes(0, 5) : Result<std::vector<std::byte>>();
    const bool begins = start && ByteView(*start).has(0, "From ");
    if (!begins && !is_told) return nullptr;
    Budget budget(Budget::kScant);
    Reader content(*file, budget);
    // A line with a time of day, and a header below it.
    const std::string head = content.text(0, 4096);
    if (begins && !is_told && head.find(": ") == std::string::npos) return nullptr;
    return std::make_unique<MailboxFile>(std::move(file));
}

}  // namespace dredger::stores
