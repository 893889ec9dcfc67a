#include "stores/mapi/message_of.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>

#include "base/text.h"
#include "stores/cards.h"
#include "stores/composing.h"
#include "stores/mapi/rtf.h"

namespace dredger::stores::mapi {
namespace {

constexpr std::int64_t mfUnsent = 0x8;              // of PidTagMessageFlags
constexpr std::int64_t attRenderedInBody = 0x4;     // of PidTagAttachFlags
enum RecipientType { kTo = 1, kCc = 2, kBcc = 3 };  // the lower bits of PidTagRecipientType

Mailbox mailbox(const Properties& p, Tag name, Tag smtp, Tag address) { return {p.text(name), p.text(smtp, address)}; }

Message::Is kind_of(const std::string& item_class) {
    struct Class {
        std::string_view begins;
        Message::Is is;
    };
    constexpr Class kClasses[] = {{"ipm.contact", Message::Is::contact},
                                  {"ipm.appointment", Message::Is::appointment},
                                  {"ipm.task", Message::Is::task},
                                  {"ipm.stickynote", Message::Is::note}};
    const std::string small = folded(item_class);
    for (const Class& one : kClasses)
        if (small.starts_with(one.begins) && !small.starts_with("ipm.taskrequest")) return one.is;
    return Message::Is::mail;
}

void take_recipients(const KeptMessage& kept, Message& message) {
    for (const Properties& p : kept.recipients) {
        Recipient recipient;
        recipient.name = p.text(PidTagDisplayName);
        recipient.address = p.text(PidTagSmtpAddress, PidTagEmailAddress);
        const auto type = p.number(PidTagRecipientType).value_or(kTo) & 0xF;
        recipient.as = type == kBcc ? Recipient::As::bcc : type == kCc ? Recipient::As::cc : Recipient::As::to;
        if (!recipient.empty()) message.recipients.push_back(std::move(recipient));
    }
    if (!message.recipients.empty()) return;
    // What is shown of them is left where their table is not.
    constexpr std::pair<Tag, Recipient::As> kShown[] = {{PidTagDisplayTo, Recipient::As::to},
                                                        {PidTagDisplayCc, Recipient::As::cc},
                                                        {PidTagDisplayBcc, Recipient::As::bcc}};
    for (const auto& [tag, as] : kShown) {
        const std::string shown = kept.properties.text(tag);
        for (std::size_t from = 0; from < shown.size();) {
            const std::size_t end = std::min(shown.find(';', from), shown.size());
            std::string name = shown.substr(from, end - from);
            name.erase(0, name.find_first_not_of(' '));
            if (!name.empty()) message.recipients.push_back({{std::move(name), ""}, as});
            from = end + 1;
        }
    }
}

void take_text(const Properties& p, Message& message) {
    message.plain = p.text(PidTagBody);
    const Value* html = p.find(PidTagHtml);
    if (html != nullptr && html->type == Type::binary) {
        message.html = p.bytes(PidTagHtml);
        const auto page = p.number(PidTagInternetCodepage).value_or(p.code_page());
        message.html_charset = charset_of_code_page(static_cast<unsigned>(page));
    } else if (html != nullptr) {
        message.html = p.text(PidTagHtml);
        message.html_charset = "utf-8";
    }
    if (!message.html.empty() || !p.has(PidTagRtfCompressed)) return;
    bool whole = true;
    const auto rtf = unpack_rtf(p.bytes(PidTagRtfCompressed), whole);
    if (!rtf) return;
    if (!whole) message.missing.emplace_back("the end of its text can't be unpacked");
    TextInRtf within = text_in_rtf(*rtf);
    if (!within.html.empty()) {
        message.html = std::move(within.html);
        message.html_charset = within.charset;
    } else if (within.plain.empty()) {
        message.rtf = *rtf;
        // To be read and searched without a program for RTF.
        if (message.plain.empty()) message.plain = std::move(within.words);
    } else if (message.plain.empty()) {
        message.plain = std::move(within.plain);
    }
}

// What of it is a MIME entity: its own fields, and the body, byte for byte. Empty where it is none that is signed.
std::string signed_entity_of(const std::string& stored) {
    std::string fields;
    bool is_wanted = false, is_signed = false;
    for (std::size_t at = 0; at < stored.size();) {
        const std::size_t end = stored.find('\n', at);
        if (end == std::string::npos) break;
        const std::string line = stored.substr(at, end + 1 - at);
        at = end + 1;
        if (line == "\r\n" || line == "\n") return is_signed ? fields + line + stored.substr(at) : "";
        const std::string small = folded(line);
        if (line[0] != ' ' && line[0] != '\t') is_wanted = small.starts_with("content-");
        is_signed = is_signed || small.find("multipart/signed") != std::string::npos;
        if (is_wanted) fields += line;
    }
    return {};
}

// "smime.p7m" holds all of a signed or encrypted message ([MS-OXOSMIME] 2.1.3).
void take_signed(const std::string& item_class, Message& message) {
    if (message.attachments.size() != 1 || !message.attachments.front().content) return;
    const Attachment& whole = message.attachments.front();
    const std::string small = folded(item_class);
    const bool is_clear = small.find("multipartsigned") != std::string::npos || whole.type == "multipart/signed";
    if (!is_clear && !small.starts_with("ipm.note.smime")) return;
    (is_clear ? message.is_signed : message.is_encrypted) = true;
    if (!is_clear) return;
    bool all = true;
    message.signed_entity = signed_entity_of(all_of(*whole.content, Properties::kMaxText, all));
    if (!all) message.signed_entity.clear();
}

Attachment attachment_of(const KeptAttachment& kept, const Message& message, const NamedTags& names) {
    const Properties& p = kept.properties;
    Attachment attachment;
    attachment.name = p.text(PidTagAttachLongFilename, PidTagAttachFilename, PidTagDisplayName);
    attachment.type = p.text(PidTagAttachMimeTag);
    attachment.content_id = p.text(PidTagAttachContentId);
    if (attachment.content_id.starts_with('<') && attachment.content_id.ends_with('>'))
        attachment.content_id = attachment.content_id.substr(1, attachment.content_id.size() - 2);
    const bool is_named_in_text =
        !attachment.content_id.empty() && message.html.find("cid:" + attachment.content_id) != std::string::npos;
    attachment.is_inline = is_named_in_text || (!message.html.empty() && !attachment.content_id.empty() &&
                                                (p.number(PidTagAttachFlags).value_or(0) & attRenderedInBody) != 0);
    if (kept.embedded) {
        attachment.embedded = std::make_shared<const Message>(message_of(*kept.embedded, names));
        if (attachment.name.empty()) attachment.name = attachment.embedded->subject;
        attachment.type = "message/rfc822";
    } else {
        attachment.content = p.content(PidTagAttachDataBinary);
        attachment.is_whole = p.is_whole(PidTagAttachDataBinary);
        const bool is_lost = !attachment.is_whole && attachment.content && attachment.content->size() == 0;
        if (is_lost) attachment.content = nullptr;
    }
    return attachment;
}

std::optional<std::uint16_t> tag_of(const NamedTags& names, const std::array<std::uint8_t, 16>& set,
                                    std::uint32_t number) {
    const auto found = names.find({set, number});
    return found == names.end() ? std::nullopt : std::optional(found->second);
}

std::string named_text(const Properties& p, const NamedTags& names, const std::array<std::uint8_t, 16>& set,
                       std::uint32_t number) {
    const auto tag = tag_of(names, set, number);
    return tag ? p.text(*tag) : "";
}

std::optional<FileTime> named_time(const Properties& p, const NamedTags& names, const std::array<std::uint8_t, 16>& set,
                                   std::uint32_t number) {
    const auto tag = tag_of(names, set, number);
    return tag ? p.time(*tag) : std::nullopt;
}

void write_as_card(const Properties& p, const NamedTags& names, Message& message) {
    if (message.is == Message::Is::contact) {
        Contact contact;
        contact.name = p.text(PidTagDisplayName);
        if (contact.name.empty()) contact.name = message.subject;
        contact.given = p.text(PidTagGivenName);
        contact.family = p.text(PidTagSurname);
        contact.company = p.text(PidTagCompanyName);
        contact.title = p.text(PidTagTitle);
        contact.note = message.plain;
        constexpr std::uint32_t kEmailAddresses[] = {0x8083, 0x8093, 0x80A3};  // PidLidEmail1EmailAddress ...
        for (const std::uint32_t number : kEmailAddresses)
            if (std::string address = named_text(p, names, kAddressSet, number); !address.empty())
                contact.addresses.push_back(std::move(address));
        constexpr std::pair<Tag, const char*> kPhones[] = {{PidTagBusinessTelephoneNumber, "WORK"},
                                                           {PidTagHomeTelephoneNumber, "HOME"},
                                                           {PidTagMobileTelephoneNumber, "CELL"}};
        for (const auto& [tag, type] : kPhones)
            if (std::string number = p.text(tag); !number.empty()) contact.phones.emplace_back(type, std::move(number));
        message.card = vcard(contact);
        message.card_extension = "vcf";
    } else if (message.is == Message::Is::appointment || message.is == Message::Is::task) {
        Event event;
        event.is_task = message.is == Message::Is::task;
        event.summary = message.subject;
        event.description = message.plain;
        event.made = message.changed ? message.changed : message.created;
        if (event.is_task) {
            event.begins = named_time(p, names, kTaskSet, 0x8104);  // PidLidTaskStartDate
            event.ends = named_time(p, names, kTaskSet, 0x8105);    // PidLidTaskDueDate
            if (const auto tag = tag_of(names, kTaskSet, 0x811C)) event.is_done = p.is_set(*tag);  // PidLidTaskComplete
        } else {
            event.begins = named_time(p, names, kAppointmentSet, 0x820D);    // PidLidAppointmentStartWhole
            event.ends = named_time(p, names, kAppointmentSet, 0x820E);      // PidLidAppointmentEndWhole
            event.location = named_text(p, names, kAppointmentSet, 0x8208);  // PidLidLocation
            if (const auto tag = tag_of(names, kAppointmentSet, 0x8215)) event.is_all_day = p.is_set(*tag);
        }
        message.begins = event.begins ? event.begins : event.ends;
        if (!event.is_task && !message.begins) message.missing.emplace_back("when it takes place can't be told");
        message.card = icalendar(event);
        message.card_extension = "ics";
    } else if (message.is == Message::Is::note) {
        message.card = message.plain;
        message.card_extension = "txt";
    }
}

}  // namespace

std::string subject_of(const Properties& properties) {
    std::string subject = properties.text(PidTagSubject);
    // The mark and a character that counts, in whatever form that has.
    if (subject.starts_with('\x01')) {
        subject.erase(0, 1);
        std::size_t next = 1;
        while (next < subject.size() && (static_cast<unsigned char>(subject[next]) & 0xC0U) == 0x80) ++next;
        subject.erase(0, next);
    }
    if (subject.empty()) subject = properties.text(PidTagNormalizedSubject);
    return subject;
}

Message message_of(const KeptMessage& kept, const NamedTags& names) {
    const Properties& p = kept.properties;
    Message message;
    const std::string item_class = p.text(PidTagMessageClass);
    message.is = kind_of(item_class);
    message.missing = kept.missing;
    message.headers = p.text(PidTagTransportMessageHeaders);
    message.subject = subject_of(p);
    const Mailbox sender = mailbox(p, PidTagSenderName, PidTagSenderSmtpAddress, PidTagSenderEmailAddress);
    const Mailbox represented =
        mailbox(p, PidTagSentRepresentingName, PidTagSentRepresentingSmtpAddress, PidTagSentRepresentingEmailAddress);
    message.from = represented.empty() ? sender : represented;
    if (!represented.empty() && !sender.empty() && folded(represented.address) != folded(sender.address))
        message.sender = sender;
    take_recipients(kept, message);
    message.sent = p.time(PidTagClientSubmitTime);
    message.received = p.time(PidTagMessageDeliveryTime);
    message.created = p.time(PidTagCreationTime);
    message.changed = p.time(PidTagLastModificationTime);
    message.id = p.text(PidTagInternetMessageId);
    message.in_reply_to = p.text(PidTagInReplyToId);
    message.references = p.text(PidTagInternetReferences);
    message.is_draft = (p.number(PidTagMessageFlags).value_or(0) & mfUnsent) != 0;
    take_text(p, message);
    for (const KeptAttachment& one : kept.attachments)
        message.attachments.push_back(attachment_of(one, message, names));
    take_signed(item_class, message);
    write_as_card(p, names, message);
    if (!p.was_whole()) message.missing.emplace_back("some of its text or fields can't be read");
    return message;
}

}  // namespace dredger::stores::mapi
