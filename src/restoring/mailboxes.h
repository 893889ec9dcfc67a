// Restored messages once more as mailboxes, which every mail program takes in: one for each folder, beside it.
#pragma once

#include <filesystem>
#include <vector>

#include "base/error.h"

namespace dredger {

struct WrittenMailbox {
    std::filesystem::path place;  // below the destination
    std::uint64_t messages = 0;
};

// Of all messages (.eml) that the manifest of the destination names, in the order of their names. "Inbox.mbox" holds
// those of the folder "Inbox"; one that is there already is written anew. Lines that begin with "From " get a sign in
// front of them, and those that have signs one more (mboxrd).
Result<std::vector<WrittenMailbox>> write_mailboxes(const std::filesystem::path& destination);

}  // namespace dredger
