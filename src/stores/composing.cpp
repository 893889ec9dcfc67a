#include "stores/composing.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <xxhash.h>

#include "base/checked.h"
#include "base/text.h"
#include "formats/gmime_objects.h"

namespace dredger::stores {
namespace {

using formats::Owned;
using formats::taken;
using namespace std::string_view_literals;

constexpr std::string_view kLineEnd = "\r\n";
constexpr std::uint64_t kLineBytes = 57, kLineText = 78;  // of Base64: 76 letters and the end of the line

// Base64 of a medium, line by line, encoded where it is read.
class Base64Lines final : public Medium {
  public:
    explicit Base64Lines(MediumPtr plain) : plain_(std::move(plain)) {
        const std::uint64_t rest = plain_->size() % kLineBytes;
        size_ = plain_->size() / kLineBytes * kLineText + (rest > 0 ? (rest + 2) / 3 * 4 + kLineEnd.size() : 0);
    }

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 1; }
    std::string name() const override { return plain_->name(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        constexpr std::uint64_t kLines = 1024;  // encoded together
        for (std::size_t done = 0; done < into.size();) {
            const std::uint64_t at = offset + done, first = at / kLineText;
            const std::uint64_t from = first * kLineBytes;
            const auto length = std::min(plain_->size() - from, kLines * kLineBytes);
            std::vector<std::byte> bytes(static_cast<std::size_t>(length));
            std::vector<Extent> lost;
            DREDGER_CHECK(plain_->read(from, bytes, &lost));
            const std::string lines = encoded(bytes);
            const auto skip = static_cast<std::size_t>(at - first * kLineText);
            const std::size_t part = std::min(into.size() - done, lines.size() - skip);
            std::copy_n(std::as_bytes(std::span(lines)).begin() + static_cast<std::ptrdiff_t>(skip), part,
                        into.begin() + static_cast<std::ptrdiff_t>(done));
            for (const Extent& gone : lost) {
                const std::uint64_t begins = std::max(gone.offset / kLineBytes * kLineText, at);
                const std::uint64_t ends = std::min(divide_up(gone.end(), kLineBytes) * kLineText, at + part);
                if (begins < ends) bad.push_back({begins, ends - begins});
            }
            done += part;
        }
        return {};
    }

  private:
    static std::string encoded(std::span<const std::byte> bytes) {
        constexpr std::string_view kLetters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
        std::string lines;
        lines.reserve(bytes.size() / kLineBytes * kLineText + kLineText);
        for (std::size_t line = 0; line < bytes.size(); line += kLineBytes) {
            const auto part = bytes.subspan(line, std::min<std::size_t>(kLineBytes, bytes.size() - line));
            for (std::size_t at = 0; at < part.size(); at += 3) {
                std::uint32_t three = 0;
                for (std::size_t i = 0; i < 3; ++i)
                    three = three << 8 | (at + i < part.size() ? std::to_integer<std::uint32_t>(part[at + i]) : 0);
                for (std::size_t i = 0; i < 4; ++i)
                    lines += i <= part.size() - at ? kLetters[three >> (18 - 6 * i) & 63U] : '=';
            }
            lines += kLineEnd;
        }
        return lines;
    }

    MediumPtr plain_;
    std::uint64_t size_ = 0;
};

// Texts and media, one behind the other.
class Rope final : public Medium {
  public:
    void add(const std::string& text) {
        if (text.empty()) return;
        if (!pieces_.empty() && pieces_.back().medium == nullptr) {
            pieces_.back().text += text;
        } else {
            pieces_.push_back({size_, text, nullptr});
        }
        size_ += text.size();
    }
    void add(const MediumPtr& medium) {
        if (medium->size() == 0) return;
        pieces_.push_back({size_, {}, medium});
        size_ += medium->size();
    }
    void add(Rope&& other) {
        for (Piece& piece : other.pieces_) piece.medium ? add(piece.medium) : add(piece.text);
    }

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 1; }
    std::string name() const override { return "message"; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        auto piece = std::upper_bound(pieces_.begin(), pieces_.end(), offset,
                                      [](std::uint64_t at, const Piece& p) { return at < p.start; });
        if (piece != pieces_.begin()) --piece;
        for (std::size_t done = 0; done < into.size() && piece != pieces_.end(); ++piece) {
            const std::uint64_t skip = offset + done - piece->start;
            const std::uint64_t length = piece->medium ? piece->medium->size() : piece->text.size();
            const auto part = into.subspan(done, std::min<std::uint64_t>(into.size() - done, length - skip));
            if (piece->medium) {
                std::vector<Extent> lost;
                DREDGER_CHECK(piece->medium->read(skip, part, &lost));
                for (const Extent& gone : lost) bad.push_back({gone.offset + piece->start, gone.length});
            } else {
                const auto text = std::as_bytes(std::span(piece->text)).subspan(static_cast<std::size_t>(skip));
                std::copy_n(text.begin(), part.size(), part.begin());
            }
            done += part.size();
        }
        return {};
    }

  private:
    struct Piece {
        std::uint64_t start;
        std::string text;
        MediumPtr medium;  // null: the text
    };
    std::vector<Piece> pieces_;
    std::uint64_t size_ = 0;
};

void make_ready() { [[maybe_unused]] static const bool is_ready = (g_mime_init(), true); }

// Lines as internet mail ends them, whatever ended them before.
std::string with_line_ends(std::string_view text) {
    std::string lines;
    lines.reserve(text.size() + text.size() / 32);
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '\r' && i + 1 < text.size() && text[i + 1] == '\n') continue;
        if (text[i] == '\n' || text[i] == '\r')
            lines += kLineEnd;
        else
            lines += text[i];
    }
    return lines;
}

// No character that could end a header's line.
std::string on_one_line(std::string_view text) {
    std::string line;
    for (const char c : valid_utf8(text)) line += static_cast<unsigned char>(c) < ' ' || c == 0x7F ? ' ' : c;
    return line;
}

// A header and what stands below it; the empty line between them is left out.
struct Entity {
    std::string header;
    Rope body;
};

std::string header_of(GMimeObject* object) { return with_line_ends(taken(g_mime_object_get_headers(object, nullptr))); }

Entity text_entity(const char* subtype, const std::string& charset, const std::string& text) {
    Entity entity;
    const Owned<GMimePart> part(g_mime_part_new_with_type("text", subtype));
    auto* object = reinterpret_cast<GMimeObject*>(part.get());
    g_mime_object_set_content_type_parameter(object, "charset", charset.c_str());
    const std::string lines = with_line_ends(text);
    const Owned<GMimeStream> stream(g_mime_stream_mem_new_with_buffer(lines.data(), lines.size()));
    const Owned<GMimeDataWrapper> content(
        g_mime_data_wrapper_new_with_stream(stream.get(), GMIME_CONTENT_ENCODING_DEFAULT));
    g_mime_part_set_content(part.get(), content.get());
    GMimeContentEncoding encoding = g_mime_part_get_best_content_encoding(part.get(), GMIME_ENCODING_CONSTRAINT_7BIT);
    if (encoding == GMIME_CONTENT_ENCODING_DEFAULT) encoding = GMIME_CONTENT_ENCODING_7BIT;
    g_mime_part_set_content_encoding(part.get(), encoding);
    entity.header = header_of(object);
    const Owned<GMimeStream> out(g_mime_stream_mem_new());
    const Owned<GMimeStream> filtered(g_mime_stream_filter_new(out.get()));
    if (encoding != GMIME_CONTENT_ENCODING_7BIT) {
        const Owned<GMimeFilter> filter(g_mime_filter_basic_new(encoding, TRUE));
        g_mime_stream_filter_add(reinterpret_cast<GMimeStreamFilter*>(filtered.get()), filter.get());
    }
    g_mime_stream_write(filtered.get(), lines.data(), lines.size());
    g_mime_stream_flush(filtered.get());
    // Lines that it broke end as the others do.
    entity.body.add(with_line_ends(formats::written_to(out)));
    return entity;
}

Rope written(const Message& message);

Entity attached(const Attachment& attachment) {
    Entity entity;
    const bool has_type = !attachment.type.empty() && !attachment.type.starts_with("multipart/");
    const std::string type = has_type ? on_one_line(attachment.type) : "application/octet-stream";
    const std::size_t slash = std::min(type.find('/'), type.size());
    const bool is_message = attachment.embedded != nullptr;
    const std::string main = is_message ? "message" : slash < type.size() ? type.substr(0, slash) : "application";
    const std::string sub = is_message ? "rfc822" : slash < type.size() ? type.substr(slash + 1) : "octet-stream";
    const Owned<GMimePart> part(g_mime_part_new_with_type(main.c_str(), sub.c_str()));
    auto* object = reinterpret_cast<GMimeObject*>(part.get());
    g_mime_object_set_disposition(object, attachment.is_inline ? "inline" : "attachment");
    if (const std::string name = on_one_line(attachment.name); !name.empty())
        g_mime_part_set_filename(part.get(), name.c_str());
    if (const std::string id = on_one_line(attachment.content_id); !id.empty())
        g_mime_part_set_content_id(part.get(), id.c_str());
    g_mime_part_set_content_encoding(part.get(),
                                     is_message ? GMIME_CONTENT_ENCODING_8BIT : GMIME_CONTENT_ENCODING_BASE64);
    entity.header = header_of(object);
    if (is_message)
        entity.body = written(*attachment.embedded);
    else if (attachment.content)
        entity.body.add(std::make_shared<Base64Lines>(attachment.content));
    return entity;
}

// Several entities as one, with a line between them that stands in none.
Entity joined_as(const char* subtype, std::vector<Entity>&& parts, const Message& message, const char* salt) {
    if (parts.size() == 1) return std::move(parts.front());
    const std::string told = message.subject + message.id + message.plain + salt;
    // No line of Quoted-Printable or Base64 can hold "=_".
    const std::string line = fmt::format("=_{:016x}{}", XXH3_64bits(told.data(), told.size()), salt);
    Entity whole;
    whole.header = fmt::format("Content-Type: multipart/{};\r\n boundary=\"{}\"\r\n", subtype, line);
    for (Entity& part : parts) {
        whole.body.add(fmt::format("--{}\r\n{}\r\n", line, part.header));
        whole.body.add(std::move(part.body));
        whole.body.add(std::string(kLineEnd));
    }
    whole.body.add(fmt::format("--{}--\r\n", line));
    return whole;
}

Entity text_of(const Message& message) {
    std::vector<Entity> forms;
    if (!message.plain.empty() || (message.html.empty() && message.rtf.empty()))
        forms.push_back(text_entity("plain", "utf-8", message.plain));
    if (!message.html.empty()) forms.push_back(text_entity("html", message.html_charset, message.html));
    if (!message.rtf.empty()) forms.push_back(text_entity("rtf", "us-ascii", message.rtf));
    return joined_as("alternative", std::move(forms), message, "a");
}

Entity content_of(const Message& message) {
    std::vector<Entity> shown, all;
    shown.push_back(text_of(message));
    for (const Attachment& attachment : message.attachments)
        if (attachment.is_inline && attachment.is_there()) shown.push_back(attached(attachment));
    all.push_back(joined_as("related", std::move(shown), message, "r"));
    for (const Attachment& attachment : message.attachments)
        if (!attachment.is_inline && attachment.is_there()) all.push_back(attached(attachment));
    return joined_as("mixed", std::move(all), message, "m");
}

constexpr std::array kOfTheBody = {
    "content-type"sv,        "content-transfer-encoding"sv, "content-disposition"sv, "content-id"sv,
    "content-description"sv, "content-language"sv,          "content-location"sv,    "mime-version"sv,
    "content-length"sv};

// The header as it came, without what it says of the body that came with it; and which fields it has.
std::string kept_header(const std::string& headers, std::vector<std::string>& fields) {
    std::string kept;
    bool is_wanted = false;
    for (std::size_t at = 0; at < headers.size();) {
        const std::size_t end = std::min(headers.find('\n', at), headers.size());
        std::string line = headers.substr(at, end - at);
        at = end + 1;
        while (line.ends_with('\r')) line.pop_back();
        if (line.empty()) continue;
        if (line[0] != ' ' && line[0] != '\t') {
            const std::size_t colon = line.find(':');
            const std::string name = colon == std::string::npos ? "" : folded(line.substr(0, colon));
            is_wanted = !name.empty() && name.find_first_of(" \t") == std::string::npos &&
                        std::find(kOfTheBody.begin(), kOfTheBody.end(), name) == kOfTheBody.end();
            if (is_wanted) fields.push_back(name);
        }
        if (is_wanted) kept += line + std::string(kLineEnd);
    }
    return kept;
}

void add_mailbox(InternetAddressList* list, const Mailbox& mailbox) {
    const std::string name = on_one_line(mailbox.name), address = on_one_line(mailbox.address);
    const Owned<InternetAddress> one(
        internet_address_mailbox_new(name.empty() ? nullptr : name.c_str(), address.c_str()));
    internet_address_list_add(list, one.get());
}

// What the store's fields tell that the header doesn't.
std::string rebuilt_header(const Message& message, const std::vector<std::string>& known) {
    const Owned<GMimeMessage> built(g_mime_message_new(FALSE));
    auto* object = reinterpret_cast<GMimeObject*>(built.get());
    const auto lacks = [&](std::string_view name) {
        return std::find(known.begin(), known.end(), name) == known.end();
    };
    const auto append = [&](const char* name, const std::string& value) {
        if (!value.empty() && lacks(folded(name)))
            g_mime_object_append_header(object, name, on_one_line(value).c_str(), "utf-8");
    };
    if (const auto when = message.sent ? message.sent : message.received; when && lacks("date")) {
        GDateTime* date = g_date_time_new_from_unix_utc(when->seconds);
        if (date != nullptr) {
            g_mime_message_set_date(built.get(), date);
            g_date_time_unref(date);
        }
    }
    if (!message.from.empty() && lacks("from")) add_mailbox(g_mime_message_get_from(built.get()), message.from);
    if (!message.sender.empty() && lacks("sender")) add_mailbox(g_mime_message_get_sender(built.get()), message.sender);
    for (const Recipient& recipient : message.recipients) {
        constexpr std::string_view kFields[] = {"to", "cc", "bcc"};
        const auto as = static_cast<std::size_t>(recipient.as);
        if (!lacks(kFields[as])) continue;
        add_mailbox(
            g_mime_message_get_addresses(
                built.get(), static_cast<GMimeAddressType>(static_cast<std::size_t>(GMIME_ADDRESS_TYPE_TO) + as)),
            recipient);
    }
    if (lacks("subject") && !message.subject.empty())
        g_mime_message_set_subject(built.get(), on_one_line(message.subject).c_str(), "utf-8");
    append("Message-ID", message.id);
    append("In-Reply-To", message.in_reply_to);
    append("References", message.references);
    if (message.is_draft) append("X-Unsent", "1");
    return header_of(object);
}

Rope written(const Message& message) {
    make_ready();
    Rope rope;
    if (!message.card.empty()) {
        rope.add(with_line_ends(message.card));
        return rope;
    }
    std::vector<std::string> fields;
    std::string header = kept_header(message.headers, fields);
    header += rebuilt_header(message, fields);
    rope.add(header + "MIME-Version: 1.0\r\n");
    if (!message.signed_entity.empty()) {
        // A signature holds of every byte.
        rope.add(message.signed_entity);
        return rope;
    }
    Entity content = content_of(message);
    rope.add(content.header + std::string(kLineEnd));
    rope.add(std::move(content.body));
    return rope;
}

}  // namespace

MediumPtr compose(const Message& message) { return std::make_shared<Rope>(written(message)); }

}  // namespace dredger::stores
