// Messages as they travel (RFC 5322 and MIME), read through GMime.
#pragma once

#include <string>

#include "stores/message.h"

namespace dredger::stores {

// What the header tells, and the attachments with their encodings undone. The texts of the message are left where they
// are: it stands there as it is.
Message read_internet_message(const std::string& bytes);

}  // namespace dredger::stores
