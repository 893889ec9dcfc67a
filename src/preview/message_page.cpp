#include "preview/message_page.h"

#include <fmt/format.h>
#include <map>
#include <set>

#include "base/markup.h"
#include "base/text.h"
#include "formats/gmime_objects.h"
#include "preview/safe_markup.h"

namespace dredger::preview {
namespace {

using formats::Owned;
using formats::taken;

constexpr std::size_t kMaxMessage = 64 << 20, kMaxText = 512 << 10, kMaxPicture = 2 << 20,
                      kMaxPictures = 8 << 20;  // bytes

constexpr const char* kStart = R"(<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src data:; style-src 'unsafe-inline'">
<title>Message</title><style>
body { font: 15px/1.45 sans-serif; margin: 14px; color: #2b2a28; background: #fff; overflow-wrap: anywhere; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 2px 12px; margin: 0 0 10px; padding: 0 0 10px; border-bottom: 1px solid #d8d3c8; }
dt { color: #8a857b; } dd { margin: 0; }
.plain { white-space: pre-wrap; } img { max-width: 100%; } td, th { vertical-align: top; padding: 2px 6px; }
</style></head><body>
)";

struct Seen {
    std::string plain, markup;
    struct Attached {
        std::string text, id;
    };
    std::vector<Attached> attachments;
    std::map<std::string, std::string> pictures;  // data URIs, by content id
    std::size_t picture_bytes = 0;
};

// "data:image/png;base64,...", where it is of a kind that draws nothing but itself.
std::string data_uri(GMimePart* part, const std::string& type, std::size_t& bytes_left) {
    if (type != "image/png" && type != "image/jpeg" && type != "image/gif" && type != "image/webp") return {};
    GMimeDataWrapper* wrapper = g_mime_part_get_content(part);
    if (wrapper == nullptr) return {};
    const Owned<GMimeStream> out(g_mime_stream_mem_new());
    g_mime_data_wrapper_write_to_stream(wrapper, out.get());
    const std::string bytes = formats::written_to(out);
    if (bytes.empty() || bytes.size() > kMaxPicture || bytes.size() > bytes_left) return {};
    bytes_left -= bytes.size();
    return fmt::format("data:{};base64,{}", type,
                       taken(g_base64_encode(reinterpret_cast<const guchar*>(bytes.data()), bytes.size())));
}

void take_part(GMimeObject*, GMimeObject* object, gpointer into) {
    Seen& seen = *static_cast<Seen*>(into);
    if (!GMIME_IS_PART(object)) return;
    auto* part = reinterpret_cast<GMimePart*>(object);
    const std::string type = folded(taken(g_mime_content_type_get_mime_type(g_mime_object_get_content_type(object))));
    if (GMIME_IS_TEXT_PART(object) && !g_mime_part_is_attachment(part)) {
        std::string& text = type == "text/html" ? seen.markup : seen.plain;
        if (text.size() < kMaxText) text += taken(g_mime_text_part_get_text(reinterpret_cast<GMimeTextPart*>(object)));
        return;
    }
    if (const char* id = g_mime_part_get_content_id(part); id != nullptr) {
        std::size_t left = kMaxPictures - seen.picture_bytes;
        const std::size_t before = left;
        if (std::string uri = data_uri(part, type, left); !uri.empty()) seen.pictures[id] = std::move(uri);
        seen.picture_bytes += before - left;
    }
    const char* name = g_mime_part_get_filename(part);
    const char* id = g_mime_part_get_content_id(part);
    seen.attachments.push_back(
        {fmt::format("{} ({})", name != nullptr ? name : "without a name", type), id != nullptr ? id : ""});
}

std::string page_of(GMimeMessage* message) {
    Seen seen;
    g_mime_message_foreach(message, take_part, &seen);
    std::set<std::string> shown;  // pictures that the text shows
    const std::string body = seen.markup.empty()
                                 ? fmt::format("<div class=\"plain\">{}</div>", escaped(valid_utf8(seen.plain)))
                                 : safe_markup(valid_utf8(seen.markup).substr(0, kMaxText), [&](const std::string& id) {
                                       const auto found = seen.pictures.find(id);
                                       if (found == seen.pictures.end()) return std::string();
                                       shown.insert(id);
                                       return found->second;
                                   });
    std::string page(kStart);
    page += "<dl>\n";
    const auto line = [&](const char* name, const std::string& value) {
        if (!value.empty()) page += fmt::format("<dt>{}</dt><dd>{}</dd>\n", name, escaped(valid_utf8(value)));
    };
    line("From", formats::addresses_of(g_mime_message_get_from(message)));
    line("To", formats::addresses_of(g_mime_message_get_to(message)));
    line("Cc", formats::addresses_of(g_mime_message_get_cc(message)));
    const char* date = g_mime_object_get_header(reinterpret_cast<GMimeObject*>(message), "Date");
    line("Date", date != nullptr ? date : "");
    const char* subject = g_mime_message_get_subject(message);
    line("Subject", subject != nullptr ? subject : "");
    for (const Seen::Attached& attachment : seen.attachments)
        if (!shown.contains(attachment.id)) line("Attached", attachment.text);
    return page + "</dl>\n" + body + "\n</body></html>\n";
}

}  // namespace

std::string message_page(const Medium& content) {
    std::string bytes(static_cast<std::size_t>(std::min<std::uint64_t>(content.size(), kMaxMessage)), '\0');
    std::vector<Extent> bad;
    if (!content.read(0, std::as_writable_bytes(std::span(bytes)), &bad)) return {};
    const auto parser = formats::parser_of(bytes);
    const Owned<GMimeMessage> message(g_mime_parser_construct_message(parser.get(), nullptr));
    return message ? page_of(message.get()) : std::string();
}

}  // namespace dredger::preview
