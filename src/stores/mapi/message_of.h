// From the properties that a store keeps of a message to the message ([MS-OXCMSG], [MS-OXOMSG]).
#pragma once

#include <memory>
#include <vector>

#include "stores/mapi/properties.h"
#include "stores/message.h"

namespace dredger::stores::mapi {

struct KeptMessage;

struct KeptAttachment {
    Properties properties;
    std::shared_ptr<const KeptMessage> embedded;  // null: it is no message
};

struct KeptMessage {
    Properties properties;
    std::vector<Properties> recipients;
    std::vector<KeptAttachment> attachments;
    std::vector<std::string> missing;  // what of it can't be had, a sentence each
};

Message message_of(const KeptMessage& kept, const NamedTags& names);

// The subject, without the mark that tells how long "Re: " in front of it is ([MS-PST] 2.5.3.1.1.1).
std::string subject_of(const Properties& properties);

}  // namespace dredger::stores::mapi
