// Writes messages as internet mail (RFC 5322, RFC 2045 to 2047), through GMime.
#pragma once

#include "stores/message.h"

namespace dredger::stores {

// The bytes of the message as a medium. The same message gives the same bytes each time. Attachments are encoded where
// they are read, so that none is held in memory; what can't be read of them is bad there.
MediumPtr compose(const Message& message);

// The character set that a code page of Windows stands for: "windows-1252", "utf-8"; "windows-1252" where it is none.
std::string charset_of_code_page(unsigned code_page);

}  // namespace dredger::stores
