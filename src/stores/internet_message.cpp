#include "stores/internet_message.h"

#include <array>

#include "base/text.h"
#include "formats/gmime_objects.h"
#include "media/text_medium.h"

namespace dredger::stores {
namespace {

using formats::Owned;

std::optional<FileTime> moment(GDateTime* date) {
    if (date == nullptr) return std::nullopt;
    return FileTime{g_date_time_to_unix(date), 0, FileTime::Clock::utc};
}

void take_addresses(InternetAddressList* list, Recipient::As as, std::vector<Recipient>& recipients) {
    constexpr int kMostRecipients = 10'000;
    const int count = list == nullptr ? 0 : internet_address_list_length(list);
    for (int i = 0; i < count && i < kMostRecipients; ++i) {
        InternetAddress* address = internet_address_list_get_address(list, i);
        const char* name = internet_address_get_name(address);
        Recipient recipient;
        if (name != nullptr) recipient.name = valid_utf8(name);
        if (INTERNET_ADDRESS_IS_MAILBOX(address)) {
            const char* mailbox = internet_address_mailbox_get_addr(reinterpret_cast<InternetAddressMailbox*>(address));
            if (mailbox != nullptr) recipient.address = valid_utf8(mailbox);
        } else if (INTERNET_ADDRESS_IS_GROUP(address)) {
            take_addresses(internet_address_group_get_members(reinterpret_cast<InternetAddressGroup*>(address)), as,
                           recipients);
        }
        recipient.as = as;
        if (!recipient.empty()) recipients.push_back(std::move(recipient));
    }
}

// When the last server took it: behind the semicolon (RFC 5322 3.6.7).
std::optional<FileTime> when_received(GMimeObject* object) {
    const char* field = g_mime_object_get_header(object, "Received");
    const std::string text = field != nullptr ? field : "";
    const std::size_t from = text.rfind(';');
    if (from == std::string::npos) return std::nullopt;
    GDateTime* date = g_mime_utils_header_decode_date(text.c_str() + from + 1);
    const auto when = moment(date);
    if (date != nullptr) g_date_time_unref(date);
    return when;
}

MediumPtr decoded(GMimePart* part) {
    GMimeDataWrapper* wrapper = g_mime_part_get_content(part);
    if (wrapper == nullptr) return nullptr;
    const Owned<GMimeStream> out(g_mime_stream_mem_new());
    g_mime_data_wrapper_write_to_stream(wrapper, out.get());
    return std::make_shared<TextMedium>(formats::written_to(out), "attachment");
}

MediumPtr written(GMimeMessage* message) {
    const Owned<GMimeStream> out(g_mime_stream_mem_new());
    g_mime_object_write_to_stream(reinterpret_cast<GMimeObject*>(message), nullptr, out.get());
    return std::make_shared<TextMedium>(formats::written_to(out), "attachment");
}

std::string type_of(GMimeObject* object) {
    return folded(formats::taken(g_mime_content_type_get_mime_type(g_mime_object_get_content_type(object))));
}

void take_part(GMimeObject* object, Message& message) {
    constexpr std::size_t kMostParts = 4000;
    const std::string type = type_of(object);
    message.is_signed = message.is_signed || type == "application/pgp-signature" ||
                        type == "application/pkcs7-signature" || type == "application/x-pkcs7-signature";
    message.is_encrypted = message.is_encrypted || type == "application/pgp-encrypted" ||
                           type == "application/pkcs7-mime" || type == "application/x-pkcs7-mime";
    if (message.attachments.size() >= kMostParts || type.ends_with("-signature")) return;
    Attachment attachment;
    attachment.type = type;
    if (GMIME_IS_MESSAGE_PART(object)) {
        GMimeMessage* within = g_mime_message_part_get_message(reinterpret_cast<GMimeMessagePart*>(object));
        if (within == nullptr) return;
        const char* subject = g_mime_message_get_subject(within);
        attachment.name = (subject != nullptr ? valid_utf8(subject) : "message") + ".eml";
        attachment.content = written(within);
        message.attachments.push_back(std::move(attachment));
        return;
    }
    if (!GMIME_IS_PART(object)) return;
    auto* part = reinterpret_cast<GMimePart*>(object);
    const char* name = g_mime_part_get_filename(part);
    const bool is_text = type == "text/plain" || type == "text/html" || type == "text/enriched";
    if (name == nullptr && is_text && !g_mime_part_is_attachment(part)) return;
    if (name != nullptr) attachment.name = valid_utf8(name);
    attachment.content = decoded(part);
    message.attachments.push_back(std::move(attachment));
}

}  // namespace

Message read_internet_message(const std::string& bytes) {
    Message message;
    const auto parser = formats::parser_of(bytes);
    const Owned<GMimeMessage> parsed(g_mime_parser_construct_message(parser.get(), nullptr));
    if (!parsed) return message;
    if (const char* subject = g_mime_message_get_subject(parsed.get())) message.subject = valid_utf8(subject);
    if (const char* id = g_mime_message_get_message_id(parsed.get())) message.id = "<" + valid_utf8(id) + ">";
    message.sent = moment(g_mime_message_get_date(parsed.get()));
    message.received = when_received(reinterpret_cast<GMimeObject*>(parsed.get()));
    std::vector<Recipient> from;
    take_addresses(g_mime_message_get_from(parsed.get()), Recipient::As::to, from);
    if (!from.empty()) message.from = from.front();
    constexpr std::array kFields = {std::pair(GMIME_ADDRESS_TYPE_TO, Recipient::As::to),
                                    std::pair(GMIME_ADDRESS_TYPE_CC, Recipient::As::cc),
                                    std::pair(GMIME_ADDRESS_TYPE_BCC, Recipient::As::bcc)};
    for (const auto& [field, as] : kFields)
        take_addresses(g_mime_message_get_addresses(parsed.get(), field), as, message.recipients);
    g_mime_message_foreach(
        parsed.get(),
        [](GMimeObject*, GMimeObject* part, gpointer into) { take_part(part, *static_cast<Message*>(into)); },
        &message);
    return message;
}

}  // namespace dredger::stores
