// What a mail program wraps its own fields and attachments in when it sends them (TNEF, "winmail.dat"; [MS-OXTNEF]).
#include <fmt/format.h>

#include "media/text_medium.h"
#include "media/window.h"
#include "stores/families.h"
#include "stores/kept.h"

namespace dredger::stores {
namespace {

using namespace mapi;

constexpr std::uint32_t kSignature = 0x223E9F78;
constexpr unsigned kMaxNested = 8;
constexpr std::size_t kMostSize = 512 << 20;  // bytes

enum Attribute : std::uint32_t {
    attSubject = 0x00018004,
    attFrom = 0x00008000,
    attDateSent = 0x00038005,
    attMessageClass = 0x00078008,
    attBody = 0x0002800C,
    attAttachData = 0x0006800F,
    attAttachTitle = 0x00018010,
    attAttachRendData = 0x00069002,
    attMAPIProps = 0x00069003,
    attRecipTable = 0x00069004,
    attAttachment = 0x00069005,
    attOemCodepage = 0x00069007,
};

KeptMessage read_tnef(const std::string& bytes, unsigned depth, NamedTags& names);

// Goes through a list of properties (2.1.3.4), as far as it makes sense.
class PropertyList {
  public:
    PropertyList(std::string_view bytes, unsigned depth, NamedTags& names)
        : bytes_(bytes), view_(view_of(bytes)), depth_(depth), names_(names) {}

    // One row; `embedded` takes a message among them.
    Properties row(std::shared_ptr<const KeptMessage>* embedded) {
        Properties properties;
        const std::uint32_t count = take32();
        for (std::uint32_t n = 0; n < count && !is_over_; ++n) one(properties, embedded);
        return properties;
    }
    std::uint32_t take32() {
        const auto value = view_.u32le(at_);
        is_over_ = is_over_ || !value;
        at_ += 4;
        return value.value_or(0);
    }
    bool is_over() const { return is_over_; }

  private:
    static bool is_long(Type type) {
        return type == Type::string || type == Type::string8 || type == Type::binary || type == Type::object;
    }

    void one(Properties& properties, std::shared_ptr<const KeptMessage>* embedded) {
        const std::uint32_t tag = take32();
        const bool is_many = (tag & 0x1000U) != 0;
        const auto type = static_cast<Type>(tag & 0x0FFFU);
        const auto id = static_cast<std::uint16_t>(tag >> 16);
        if (id >= 0x8000) name(id);
        const std::uint32_t values = is_many || is_long(type) ? take32() : 1;
        for (std::uint32_t n = 0; n < values && !is_over_; ++n) {
            const std::size_t length = is_long(type) ? take32() : size_of(type);
            if (!lies_within(at_, length, bytes_.size())) {
                is_over_ = true;
                return;
            }
            std::string value(bytes_.substr(at_, length));
            at_ += (length + 3) / 4 * 4;
            if (is_many && n > 0) continue;
            if (type == Type::object && id == PidTagAttachDataBinary && value.size() > 16) {
                value.erase(0, 16);  // the id of the interface
                if (embedded != nullptr && depth_ > 0 && view_of(value).u32le(0) == kSignature)
                    *embedded = std::make_shared<const KeptMessage>(read_tnef(value, depth_ - 1, names_));
            }
            properties.set(id, {type, std::move(value), nullptr});
        }
    }

    void name(std::uint16_t id) {
        NamedTag named;
        for (std::size_t i = 0; i < 16; ++i) named.set[i] = view_.u8(at_ + i).value_or(0);
        at_ += 16;
        const std::uint32_t kind = take32();
        if (kind == 0) {
            named.number = take32();
            names_.emplace(named, id);
        } else {
            const std::size_t length = take32();
            is_over_ = is_over_ || !lies_within(at_, length, bytes_.size());
            at_ += is_over_ ? 0 : (length + 3) / 4 * 4;
        }
    }

    static std::size_t size_of(Type type) {
        switch (type) {
            case Type::floating64:
            case Type::integer64:
            case Type::time: return 8;
            case Type::guid: return 16;
            default: return 4;
        }
    }

    std::string_view bytes_;
    ByteView view_;
    unsigned depth_;
    NamedTags& names_;
    std::size_t at_ = 0;
    bool is_over_ = false;
};

Value text_value(std::string_view text) {
    while (text.ends_with('\0')) text.remove_suffix(1);
    return {Type::string8, std::string(text), nullptr};
}

KeptMessage read_tnef(const std::string& bytes, unsigned depth, NamedTags& names) {
    constexpr std::size_t kStart = 6, kHeader = 9;
    KeptMessage message;
    const ByteView view = view_of(bytes);
    std::size_t at = kStart;
    while (lies_within(at, kHeader, bytes.size())) {
        const std::uint32_t id = view.u32le(at + 1).value_or(0), length = view.u32le(at + 5).value_or(0);
        if (!lies_within(at + kHeader, std::size_t{length} + 2, bytes.size())) break;
        const std::string_view data = std::string_view(bytes).substr(at + kHeader, length);
        at += kHeader + length + 2;
        if (id == attAttachRendData) message.attachments.emplace_back();
        const bool has_attachment = !message.attachments.empty();
        Properties& own = message.properties;
        if (id == attSubject && !own.has(PidTagSubject)) own.set(PidTagSubject, text_value(data));
        if (id == attMessageClass && !own.has(PidTagMessageClass)) own.set(PidTagMessageClass, text_value(data));
        if (id == attBody && !own.has(PidTagBody)) own.set(PidTagBody, text_value(data));
        if (id == attOemCodepage) own.set_code_page(view_of(data).u32le(0).value_or(0));
        if (id == attMAPIProps) {
            const unsigned page = own.code_page();
            own = PropertyList(data, depth, names).row(nullptr);
            own.set_code_page(page);
        }
        if (id == attRecipTable) {
            PropertyList rows(data, depth, names);
            const std::uint32_t count = rows.take32();
            for (std::uint32_t n = 0; n < count && !rows.is_over(); ++n)
                message.recipients.push_back(rows.row(nullptr));
        }
        if (!has_attachment) continue;
        KeptAttachment& attachment = message.attachments.back();
        if (id == attAttachTitle) attachment.properties.set(PidTagAttachFilename, text_value(data));
        if (id == attAttachData)
            attachment.properties.set(PidTagAttachDataBinary, {Type::binary, std::string(data), nullptr});
        if (id == attAttachment) {
            Properties more = PropertyList(data, depth, names).row(&attachment.embedded);
            for (const std::uint16_t tag : {PidTagAttachFilename, PidTagAttachDataBinary})
                if (!more.has(tag) && attachment.properties.has(tag)) more.set(tag, *attachment.properties.find(tag));
            attachment.properties = std::move(more);
        }
    }
    if (at < bytes.size()) message.missing.emplace_back("its end is missing");
    return message;
}

}  // namespace

Result<std::unique_ptr<MailStore>> open_tnef(MediumPtr file, bool) {
    const auto start = file->size() >= 6 ? file->bytes(0, 6) : Result<std::vector<std::byte>>();
    if (!start || ByteView(*start).u32le(0) != kSignature || file->size() > kMostSize) return nullptr;
    bool whole = true;
    const std::string bytes = all_of(*file, kMostSize, whole);
    NamedTags names;
    const KeptMessage kept = read_tnef(bytes, kMaxNested, names);
    return std::make_unique<KeptStore>(*file, "TNEF", kept, names);
}

}  // namespace dredger::stores
