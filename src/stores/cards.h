// Contacts, appointments and tasks as other programs read them: vCard 3.0 (RFC 2426) and iCalendar (RFC 5545).
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/times.h"

namespace dredger::stores {

struct Contact {
    std::string name, given, family, company, title, note;    // UTF-8; empty: not known
    std::vector<std::string> addresses;                       // of mail
    std::vector<std::pair<std::string, std::string>> phones;  // "WORK" and the number
};
std::string vcard(const Contact& contact);

struct Event {
    bool is_task = false;
    std::string summary, location, description;
    std::optional<FileTime> begins, ends;  // a task is due when it ends
    std::optional<FileTime> made;
    bool is_all_day = false, is_done = false;
};
std::string icalendar(const Event& event);

}  // namespace dredger::stores
