#include "formats/mail_header.h"

#include <gmime/gmime.h>
#include <memory>

namespace dredger::formats {
namespace {

struct Release {
    void operator()(void* object) const { g_object_unref(object); }
};
template <class T>
using Owned = std::unique_ptr<T, Release>;

}  // namespace

MailHeader read_mail_header(const std::string& text) {
    [[maybe_unused]] static const bool is_ready = (g_mime_init(), true);
    const std::string whole = text + "\n\n";
    const Owned<GMimeStream> stream(g_mime_stream_mem_new_with_buffer(whole.data(), whole.size()));
    const Owned<GMimeParser> parser(g_mime_parser_new_with_stream(stream.get()));
    const Owned<GMimeMessage> message(g_mime_parser_construct_message(parser.get(), nullptr));
    MailHeader header;
    if (message == nullptr) return header;
    if (const char* subject = g_mime_message_get_subject(message.get()); subject != nullptr) header.subject = subject;
    if (GDateTime* const date = g_mime_message_get_date(message.get()); date != nullptr)
        header.date = FileTime{g_date_time_to_unix(date), 0, FileTime::Clock::utc};
    return header;
}

}  // namespace dredger::formats
