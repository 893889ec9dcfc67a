// A folder in which a mail program keeps its messages, as an archive (a tar, or a folder that is read as one): a
// Maildir, a tree of mailboxes, a tree of message files.
#include <algorithm>
#include <map>

#include "base/text.h"
#include "formats/format.h"
#include "formats/reader.h"
#include "formats/tar_header.h"
#include "media/window.h"
#include "stores/families.h"
#include "stores/standing.h"

namespace dredger::stores {
namespace {

struct Member {
    std::string path;
    std::uint64_t at = 0, size = 0;  // of its content, in the archive
};

std::vector<Member> members_of(const Medium& archive) {
    Budget budget(Budget::Limits{~std::uint64_t{0}, 0, ~std::uint64_t{0}, 0});
    Reader content(archive, budget);
    std::vector<Member> members;
    std::string long_name;
    for (std::uint64_t at = 0; content.holds(at, formats::TarHeader::kBlock);) {
        const auto header = formats::tar_header_at(content, at);
        if (!header) break;
        at += formats::TarHeader::kBlock;
        if (header->type == 'L') {
            long_name =
                content.text(at, static_cast<std::size_t>(std::min<std::uint64_t>(header->size, Reader::kMaxText)));
            while (long_name.ends_with('\0')) long_name.pop_back();
        } else if (header->type == '0' || header->type == '\0') {
            members.push_back({long_name.empty() ? header->name : long_name, at, header->size});
            long_name.clear();
        }
        at += header->room();
    }
    return members;
}

enum class Form { none, maildir, file, mailbox, segments };

struct MailMember : Member {
    Form form = Form::none;
    std::string folder;  // as people name it
    bool is_trashed = false;
    bool is_partial = false;                                  // what was attached to it is kept elsewhere:
    std::vector<std::pair<std::string, Extent>> beside = {};  // in these files
};

// "Inbox.sbd" and "Inbox.mbox" are folders of "Inbox"; those of a Maildir begin with a point and have one between each.
std::string shown(std::string part, bool is_maildir) {
    for (const std::string_view end : {".sbd", ".mbox", ".mbx", ".dbx"})
        if (part.size() > end.size() && folded(part).ends_with(end)) part = part.substr(0, part.size() - end.size());
    if (is_maildir && part.starts_with('.')) {
        part.erase(0, 1);
        std::replace(part.begin(), part.end(), '.', '/');
    }
    return part;
}

MailMember look_at(const Member& member, Reader& content) {
    MailMember mail{member, Form::none, {}, false, false, {}};
    std::vector<std::string> parts;
    for (std::size_t from = 0; from <= member.path.size();) {
        const std::size_t end = std::min(member.path.find('/', from), member.path.size());
        if (end > from && member.path.substr(from, end - from) != ".")
            parts.push_back(member.path.substr(from, end - from));
        from = end + 1;
    }
    if (parts.empty() || member.size == 0) return mail;
    const std::string name = parts.back();
    parts.pop_back();
    const std::string extension = extension_of(name);
    const bool is_in_maildir =
        !parts.empty() && (parts.back() == "cur" || parts.back() == "new" || parts.back() == "tmp");
    if (is_in_maildir) {
        mail.form = Form::maildir;
        parts.pop_back();
        const std::size_t flags = name.rfind(":2,");
        mail.is_trashed = flags != std::string::npos && name.find('T', flags) != std::string::npos;
    } else if (extension == "eml" || extension == "emlx") {
        mail.form = Form::file;
        mail.is_partial = folded(name).ends_with(".partial.emlx");
        if (!parts.empty() && parts.back() == "Messages") parts.pop_back();
    } else if (content.has(member.at, "From ")) {
        mail.form = Form::mailbox;
        parts.push_back(name);
    } else if (content.has(member.at, std::string_view("\xCF\xAD\x12\xFE\xC5\xFD\x74\x6F", 8))) {
        mail.form = Form::segments;
        parts.push_back(name);
    }
    for (const std::string& part : parts) mail.folder = joined(mail.folder, shown(part, is_in_maildir));
    return mail;
}

// "Attachments/17/2/nest.jpg" belongs to "Messages/17.partial.emlx" in the same mailbox.
void find_attachments(const std::vector<Member>& members, std::vector<MailMember>& mail) {
    std::map<std::string, std::vector<const Member*>> kept;  // by "MAILBOX/Attachments/17"
    for (const Member& member : members) {
        const std::size_t at = ("/" + member.path).find("/Attachments/");
        if (at == std::string::npos) continue;
        const std::size_t number = at + std::string_view("Attachments/").size();
        const std::size_t end = member.path.find('/', number);
        if (end != std::string::npos) kept[member.path.substr(0, end)].push_back(&member);
    }
    for (MailMember& one : mail) {
        const auto [folder, name] = split_path(one.path);
        if (!one.is_partial || split_path(folder).name != "Messages") continue;
        const std::string mailbox(split_path(folder).folder);
        const auto found = kept.find(joined(joined(mailbox, "Attachments"), name.substr(0, name.find('.'))));
        if (found == kept.end()) continue;
        for (const Member* member : found->second)
            one.beside.emplace_back(split_path(member->path).name, Extent{member->at, member->size});
    }
}

class MailTree final : public StandingStore {
  public:
    MailTree(MediumPtr archive, std::vector<MailMember> members)
        : StandingStore(std::move(archive), "mail folder"), members_(std::move(members)) {}

    void each(const Sink& sink) const override {
        bool goes_on = true;
        for (const MailMember& member : members_) {
            const auto store = opened(member);
            if (!store) continue;
            store->each([&](Standing&& standing, std::uint64_t) {
                goes_on = sink(moved(std::move(standing), member), member.at);
                return goes_on;
            });
            if (!goes_on) return;
        }
    }

    std::optional<Standing> find(std::uint64_t number) const override {
        const auto behind = std::upper_bound(members_.begin(), members_.end(), number,
                                             [](std::uint64_t at, const MailMember& m) { return at < m.at; });
        if (behind == members_.begin()) return std::nullopt;
        const MailMember& member = *(behind - 1);
        const auto store = opened(member);
        auto standing = store ? store->find(number - member.at) : std::nullopt;
        return standing ? std::optional(moved(std::move(*standing), member)) : std::nullopt;
    }

  private:
    std::unique_ptr<StandingStore> opened(const MailMember& member) const {
        const auto content = std::make_shared<const Window>(file(), member.at, member.size);
        auto store = member.form == Form::mailbox    ? open_mbox(content, true)
                     : member.form == Form::segments ? open_dbx(content, true)
                                                     : open_eml(content, true);
        if (!store || *store == nullptr) return nullptr;
        return std::unique_ptr<StandingStore>(static_cast<StandingStore*>(store->release()));
    }

    static Standing moved(Standing&& standing, const MailMember& member) {
        standing.number += member.at;
        for (Extent& extent : standing.where) extent.offset += member.at;
        standing.folder = member.folder;
        if (member.is_trashed) standing.state = State::trashed;
        standing.beside = member.beside;
        if (member.is_partial)
            standing.notes.emplace_back("what was attached to it is kept in files of its own, not in it");
        return std::move(standing);
    }

    std::vector<MailMember> members_;  // by place
};

}  // namespace

Result<std::unique_ptr<MailStore>> open_mail_tree(MediumPtr file, bool) {
    Budget budget(Budget::Limits{~std::uint64_t{0}, 0, ~std::uint64_t{0}, 0});
    Reader content(*file, budget);
    if (!content.has(257, "ustar")) return nullptr;
    std::vector<MailMember> mail;
    const std::vector<Member> members = members_of(*file);
    for (const Member& member : members)
        if (MailMember one = look_at(member, content); one.form != Form::none) mail.push_back(std::move(one));
    if (mail.empty()) return nullptr;
    find_attachments(members, mail);
    return std::make_unique<MailTree>(std::move(file), std::move(mail));
}

}  // namespace dredger::stores
