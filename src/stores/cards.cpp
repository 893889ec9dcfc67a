#include "stores/cards.h"

#include <fmt/format.h>
#include <xxhash.h>

#include "base/text.h"

namespace dredger::stores {
namespace {

// Text as both formats write it (RFC 2426 4, RFC 5545 3.3.11).
std::string escaped(const std::string& text) {
    std::string out;
    for (const char c : valid_utf8(text)) {
        if (c == '\\' || c == ',' || c == ';') out += '\\';
        if (c == '\n')
            out += "\\n";
        else if (static_cast<unsigned char>(c) >= ' ' || c == '\t')
            out += c;
    }
    return out;
}

// Lines of at most 75 bytes, broken between characters; each further one begins with a blank (RFC 5545 3.1).
class Lines {
  public:
    void add(std::string_view name, const std::string& value) {
        std::string line = fmt::format("{}:{}", name, value);
        std::size_t room = 75;
        while (line.size() > room) {
            std::size_t cut = room;
            while (cut > 1 && (static_cast<unsigned char>(line[cut]) & 0xC0U) == 0x80) --cut;
            text_ += line.substr(0, cut) + "\r\n ";
            line.erase(0, cut);
            room = 74;
        }
        text_ += line + "\r\n";
    }
    void add_text(std::string_view name, const std::string& text) {
        if (!text.empty()) add(name, escaped(text));
    }
    std::string take() { return std::move(text_); }

  private:
    std::string text_;
};

std::string stamp(const FileTime& time) {
    std::string text;
    for (const char c : iso8601({time.seconds, 0, FileTime::Clock::utc}))
        if (c != '-' && c != ':') text += c;
    return text;
}

}  // namespace

std::string vcard(const Contact& contact) {
    Lines lines;
    lines.add("BEGIN", "VCARD");
    lines.add("VERSION", "3.0");
    const std::string name = contact.name.empty() ? joined(contact.given, contact.family) : contact.name;
    lines.add("FN", escaped(name));
    const bool has_parts = !contact.family.empty() || !contact.given.empty();
    lines.add("N", has_parts ? fmt::format("{};{};;;", escaped(contact.family), escaped(contact.given))
                             : fmt::format("{};;;;", escaped(name)));
    lines.add_text("ORG", contact.company);
    lines.add_text("TITLE", contact.title);
    for (const std::string& address : contact.addresses) lines.add_text("EMAIL;TYPE=INTERNET", address);
    for (const auto& [type, number] : contact.phones) lines.add_text(fmt::format("TEL;TYPE={}", type), number);
    lines.add_text("NOTE", contact.note);
    lines.add("END", "VCARD");
    return lines.take();
}

std::string icalendar(const Event& event) {
    Lines lines;
    const std::string kind = event.is_task ? "VTODO" : "VEVENT";
    lines.add("BEGIN", "VCALENDAR");
    lines.add("VERSION", "2.0");
    lines.add("PRODID", "-//Dredger//Dredger//EN");
    lines.add("BEGIN", kind);
    const std::string told = event.summary + event.location + (event.begins ? stamp(*event.begins) : "");
    lines.add("UID", fmt::format("{:016x}@dredger", XXH3_64bits(told.data(), told.size())));
    lines.add("DTSTAMP", stamp(event.made.value_or(event.begins.value_or(FileTime{}))));
    const auto moment = [&](const char* name, const std::optional<FileTime>& time) {
        if (!time) return;
        if (event.is_all_day)
            lines.add(fmt::format("{};VALUE=DATE", name), stamp(*time).substr(0, 8));
        else
            lines.add(name, stamp(*time));
    };
    moment("DTSTART", event.begins);
    moment(event.is_task ? "DUE" : "DTEND", event.ends);
    lines.add_text("SUMMARY", event.summary);
    lines.add_text("LOCATION", event.location);
    lines.add_text("DESCRIPTION", event.description);
    if (event.is_task) lines.add("STATUS", event.is_done ? "COMPLETED" : "NEEDS-ACTION");
    lines.add("END", kind);
    lines.add("END", "VCALENDAR");
    return lines.take();
}

}  // namespace dredger::stores
