// Which tags of a store or message stand for named properties ([MS-PST] 2.4.7, [MS-OXMSG] 2.2.3): entries of eight
// bytes, and the sets that they name by number.
#pragma once

#include "stores/mapi/properties.h"

namespace dredger::stores::mapi {

NamedTags named_tags(const std::string& sets, const std::string& entries);

}  // namespace dredger::stores::mapi
