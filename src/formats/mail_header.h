// What the header of a mail says (RFC 5322, RFC 2047).
#pragma once

#include <optional>
#include <string>

#include "base/times.h"

namespace dredger::formats {

struct MailHeader {
    std::string subject;           // decoded; UTF-8
    std::optional<FileTime> date;  // when it was sent
};

// `text`: the lines of a header, with or without the empty one behind them.
MailHeader read_mail_header(const std::string& text);

}  // namespace dredger::formats
