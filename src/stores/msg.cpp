// A message as its mail program saves it in a file of its own (MSG; [MS-OXMSG]): a compound file whose streams are its
// properties, and whose storages are recipients and attachments.
#include <algorithm>
#include <fmt/format.h>
#include <map>

#include "formats/compound_file.h"
#include "media/content.h"
#include "stores/families.h"
#include "stores/kept.h"
#include "stores/mapi/names.h"

namespace dredger::stores {
namespace {

using namespace mapi;

constexpr std::size_t kMostStreams = 100'000, kMostChildren = 10'000;
constexpr unsigned kMaxNested = 8;  // messages within messages
constexpr std::string_view kValues = "__properties_version1.0";
constexpr std::size_t kEntry = 16;          // bytes of one
constexpr std::uint64_t kShort = 64 << 10;  // bytes of a value that is read at once

class MessageFile {
  public:
    explicit MessageFile(MediumPtr file) : file_(std::move(file)) {
        Budget budget;
        Reader content(*file_, budget);
        (void)formats::take_compound_apart(content, [this](Part&& part) {
            const std::string path = part.folder.empty() ? part.name : part.folder + "/" + part.name;
            parts_.try_emplace(path, std::move(part));
            return parts_.size() < kMostStreams;
        });
    }

    bool is_message() const { return parts_.contains(std::string(kValues)); }

    KeptMessage message() const { return message_in("", 32, kMaxNested); }

    NamedTags names() const {
        return named_tags(bytes_of("__nameid_version1.0/__substg1.0_00020102"),
                          bytes_of("__nameid_version1.0/__substg1.0_00030102"));
    }

  private:
    MediumPtr stream(const std::string& path) const {
        const auto part = parts_.find(path);
        if (part == parts_.end()) return nullptr;
        std::vector<Extent> where = part->second.where;
        std::uint64_t told = 0;
        for (const Extent& extent : where) told += extent.length;
        if (told < part->second.size && part->second.size <= file_->size())
            where.push_back(Extent::unknown(part->second.size - told));
        return std::make_shared<Content>(file_, where);
    }

    std::string bytes_of(const std::string& path) const {
        const MediumPtr content = stream(path);
        bool whole = true;
        return content ? all_of(*content, Properties::kMaxText, whole) : "";
    }

    // The properties of a storage; `header` bytes stand before the first.
    Properties properties_in(const std::string& storage, std::size_t header, std::vector<std::string>& missing) const {
        Properties properties;
        const std::string prefix = storage.empty() ? "" : storage + "/";
        const std::string stored = bytes_of(prefix + std::string(kValues));
        const ByteView view = view_of(stored);
        for (std::size_t at = header; at + kEntry <= stored.size(); at += kEntry) {
            const std::uint32_t tag = view.u32le(at).value_or(0);
            const auto type = static_cast<Type>(tag & 0xFFFFU);
            const auto id = static_cast<std::uint16_t>(tag >> 16);
            const bool is_long = type == Type::string || type == Type::string8 || type == Type::binary ||
                                 type == Type::object || type == Type::guid;
            if (!is_long) {
                properties.set(id, {type, stored.substr(at + 8, 8), nullptr});
                continue;
            }
            const std::string path = fmt::format("{}__substg1.0_{:08X}", prefix, tag);
            const MediumPtr content = stream(path);
            if (!content) {
                missing.emplace_back("a part of what is kept of it is lost");
                continue;
            }
            if (content->size() > kShort) {
                properties.set(id, {type, {}, content});
            } else {
                bool whole = true;
                properties.set(id, {type, all_of(*content, kShort, whole), nullptr});
                if (!whole) missing.emplace_back("a part of what is kept of it can't be read");
            }
        }
        return properties;
    }

    KeptMessage message_in(const std::string& storage, std::size_t header, unsigned depth) const {
        constexpr std::size_t kOfChild = 8, kOfEmbedded = 24;
        KeptMessage message;
        message.properties = properties_in(storage, header, message.missing);
        const std::string prefix = storage.empty() ? "" : storage + "/";
        for (std::size_t n = 0; n < kMostChildren; ++n) {
            const std::string child = fmt::format("{}__recip_version1.0_#{:08X}", prefix, n);
            if (!parts_.contains(child + "/" + std::string(kValues))) break;
            message.recipients.push_back(properties_in(child, kOfChild, message.missing));
            message.recipients.back().set_code_page(message.properties.code_page());
        }
        for (std::size_t n = 0; n < kMostChildren; ++n) {
            const std::string child = fmt::format("{}__attach_version1.0_#{:08X}", prefix, n);
            if (!parts_.contains(child + "/" + std::string(kValues))) break;
            KeptAttachment attachment;
            attachment.properties = properties_in(child, kOfChild, message.missing);
            attachment.properties.set_code_page(message.properties.code_page());
            const std::string within = child + "/__substg1.0_3701000D";
            if (depth > 0 && parts_.contains(within + "/" + std::string(kValues)))
                attachment.embedded = std::make_shared<const KeptMessage>(message_in(within, kOfEmbedded, depth - 1));
            message.attachments.push_back(std::move(attachment));
        }
        return message;
    }

    MediumPtr file_;
    std::map<std::string, Part> parts_;  // streams, by path
};

}  // namespace

Result<std::unique_ptr<MailStore>> open_msg(MediumPtr file, bool) {
    const auto start = file->size() >= 8 ? file->bytes(0, 8) : Result<std::vector<std::byte>>();
    if (!start || !ByteView(*start).has(0, formats::CompoundFile::kMark)) return nullptr;
    const MessageFile message(file);
    if (!message.is_message()) return nullptr;
    return std::make_unique<KeptStore>(*file, "MSG", message.message(), message.names());
}

}  // namespace dredger::stores
