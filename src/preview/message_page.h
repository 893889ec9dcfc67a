// A message as a page to look at, which needs nothing beside it.
#pragma once

#include <string>

#include "media/medium.h"

namespace dredger::preview {

// Its header, its text and what is attached to it; empty where it is no message. Nothing on the page runs or is loaded
// from elsewhere; pictures are those of the message itself.
std::string message_page(const Medium& content);

}  // namespace dredger::preview
