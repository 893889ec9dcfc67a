// Messages as people read them, through GMime: headers and text with their encodings undone.
#include <fmt/format.h>

#include "formats/format.h"
#include "formats/gmime_objects.h"
#include "preview/decoders.h"
#include "preview/text.h"

namespace dredger::preview {
namespace {

constexpr std::size_t kMaxMessage = 64 << 20;  // bytes

using formats::Owned;
using formats::taken;

struct Body {
    std::string plain, markup;
    std::string attachments;  // a line each
    std::string attached_text;
};

void take_part(GMimeObject*, GMimeObject* part, gpointer into) {
    Body& body = *static_cast<Body*>(into);
    if (!GMIME_IS_PART(part)) return;
    GMimeContentType* type = g_mime_object_get_content_type(part);
    const char* name = g_mime_part_get_filename(reinterpret_cast<GMimePart*>(part));
    const std::string text =
        GMIME_IS_TEXT_PART(part) ? taken(g_mime_text_part_get_text(reinterpret_cast<GMimeTextPart*>(part))) : "";
    if (GMIME_IS_TEXT_PART(part) && !g_mime_part_is_attachment(reinterpret_cast<GMimePart*>(part))) {
        (g_mime_content_type_is_type(type, "text", "html") ? body.markup : body.plain) += text;
    } else {
        body.attached_text += text;
        body.attachments += fmt::format("[attached: {}, {}]\n", name != nullptr ? name : "without a name",
                                        taken(g_mime_content_type_get_mime_type(type)));
    }
}

std::string text_of(GMimeMessage* message) {
    std::string text;
    const auto line = [&](const char* name, const std::string& value) {
        if (!value.empty()) text += fmt::format("{}: {}\n", name, value);
    };
    const auto header = [&](const char* name) -> std::string {
        const char* value = g_mime_object_get_header(reinterpret_cast<GMimeObject*>(message), name);
        return value != nullptr ? value : "";
    };
    line("From", formats::addresses_of(g_mime_message_get_from(message)));
    line("To", formats::addresses_of(g_mime_message_get_to(message)));
    line("Date", header("Date"));
    const char* subject = g_mime_message_get_subject(message);
    line("Subject", subject != nullptr ? subject : "");
    Body body;
    g_mime_message_foreach(message, take_part, &body);
    text += body.attachments;
    text += '\n';
    text += body.plain.empty() ? text_of_markup(body.markup, kMaxText) : body.plain;
    if (!body.attached_text.empty()) text += "\n" + body.attached_text;
    return text;
}

}  // namespace

std::string text_of_mail(const Medium& content, std::size_t most) {
    Budget budget;
    Reader reader(content, budget);
    std::string text;
    const auto add = [&](const Part& message) {
        const std::string bytes = bytes_of(reader, message, kMaxMessage);
        const auto parser = formats::parser_of(bytes);
        const Owned<GMimeMessage> parsed(g_mime_parser_construct_message(parser.get(), nullptr));
        if (parsed) text += (text.empty() ? "" : "\f----\n") + text_of(parsed.get());
        return text.size() < most;
    };
    if (reader.has(0, "From ")) (void)format_named("mbox")->take_apart(reader, add);
    if (text.empty()) {
        // Some programs write its length before the message, as a line of its own.
        const std::string start = reader.text(0, 12);
        const std::size_t line = start.find('\n');
        const bool is_length = line != std::string::npos && start.find_first_not_of("0123456789 \r") == line;
        const std::uint64_t first = is_length ? line + 1 : 0;
        add({"message", "", {{first, content.size() - first}}});
    }
    std::erase(text, '\r');
    return cut_to_characters(std::move(text), most);
}

}  // namespace dredger::preview
