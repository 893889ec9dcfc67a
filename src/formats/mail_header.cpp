#include "formats/mail_header.h"

#include "formats/gmime_objects.h"

namespace dredger::formats {

MailHeader read_mail_header(const std::string& text) {
    const std::string whole = text + "\n\n";
    const auto parser = parser_of(whole);
    const Owned<GMimeMessage> message(g_mime_parser_construct_message(parser.get(), nullptr));
    MailHeader header;
    if (message == nullptr) return header;
    if (const char* subject = g_mime_message_get_subject(message.get()); subject != nullptr) header.subject = subject;
    if (GDateTime* const date = g_mime_message_get_date(message.get()); date != nullptr)
        header.date = FileTime{g_date_time_to_unix(date), 0, FileTime::Clock::utc};
    return header;
}

}  // namespace dredger::formats
