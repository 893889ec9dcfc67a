#define FUSE_USE_VERSION 35

#include "mounting/mount.h"

#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <fuse_lowlevel.h>
#include <unistd.h>

#include "media/content.h"

namespace dredger {
namespace {

constexpr double kKnownFor =
    300;  // seconds that the kernel needs not ask again: what is there stays, and more is only added
constexpr std::size_t kMostRead = 1 << 20;
constexpr std::string_view kPrefix = "user.dredger.";

// A file that somebody has open. Reads of one file come one after the other: what unpacks keeps what it unpacked.
struct OpenFile {
    std::unique_ptr<Medium> content;
    std::mutex mutex;
};

class Served {
  public:
    Served(FindsFolder& finds, const std::map<std::int64_t, MediumPtr>& media, const MountRequest& request)
        : finds_(finds), media_(media), request_(request), uid_(::getuid()), gid_(::getgid()) {}

    FindsFolder& finds() { return finds_; }

    struct stat facts_of(const FindsFolder::Item& item) const {
        struct stat facts {};
        facts.st_ino = item.number;
        const mode_t type = item.link_to != 0 ? S_IFLNK : item.is_folder ? S_IFDIR : S_IFREG;
        const mode_t usual = item.link_to != 0 ? 0777 : item.is_folder ? 0555 : 0444;
        facts.st_mode = type | (item.permissions != 0 ? item.permissions : usual);
        facts.st_nlink = item.is_folder ? 2 : 1;
        facts.st_uid = uid_;
        facts.st_gid = gid_;
        facts.st_size = static_cast<off_t>(item.size);
        facts.st_blocks = static_cast<blkcnt_t>((item.size + 511) / 512);
        facts.st_blksize = kMostRead;
        const auto time_of = [](const FindsFolder::Moment& moment) {
            return timespec{moment.seconds, static_cast<long>(moment.nanoseconds)};
        };
        facts.st_mtim = time_of(item.modified);
        facts.st_atim = time_of(item.accessed);
        facts.st_ctim = time_of(item.changed);
        return facts;
    }

    fuse_entry_param entry_of(const FindsFolder::Item& item) const {
        fuse_entry_param entry{};
        entry.ino = item.number;
        entry.attr = facts_of(item);
        entry.attr_timeout = entry.entry_timeout = kKnownFor;
        return entry;
    }

    // Null where its content can't be had; `error` says why.
    std::unique_ptr<OpenFile> open(FindsFolder::Number number, int& error) const {
        const auto item = finds_.find(number);
        error = item == nullptr ? ENOENT : item->is_folder ? EISDIR : ELOOP;
        if (item == nullptr || item->is_folder || item->link_to != 0) return nullptr;
        error = EIO;
        const auto candidate = finds_.candidate(item->candidate);
        if (!candidate || !*candidate) return nullptr;
        const auto medium = media_.find((*candidate)->volume);
        if (medium == media_.end()) return nullptr;
        auto file = std::make_unique<OpenFile>();
        file->content = open_content(medium->second, (*candidate)->layout, (*candidate)->record.size);
        return file;
    }

    // All of the range, or an error: the kernel takes what is less for the end of the file. What it reads ahead in vain
    // it asks for again page by page.
    int read(OpenFile& file, std::uint64_t offset, std::span<std::byte> into, std::size_t& had,
             std::uint64_t size) const {
        const std::lock_guard lock(file.mutex);
        had = 0;
        if (offset >= size) return 0;
        into = into.first(static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), size - offset)));
        const std::uint64_t there = file.content->size();
        const auto stored = into.first(
            static_cast<std::size_t>(offset < there ? std::min<std::uint64_t>(into.size(), there - offset) : 0));
        std::vector<Extent> bad;
        if (!stored.empty() && !file.content->read(offset, stored, &bad)) bad = {{offset, stored.size()}};
        std::fill(into.begin() + static_cast<std::ptrdiff_t>(stored.size()), into.end(), std::byte{0});
        if (stored.size() < into.size()) bad.push_back({offset + stored.size(), into.size() - stored.size()});
        had = into.size();
        return bad.empty() || request_.holes == Holes::zeros ? 0 : EIO;
    }

    // "user.dredger.band" and its like.
    std::map<std::string, std::string> attributes_of(FindsFolder::Number number) const {
        std::map<std::string, std::string> attributes;
        const auto item = finds_.find(number);
        if (item == nullptr || item->candidate == 0) return attributes;
        const auto found = finds_.candidate(item->candidate);
        if (!found || !*found) return attributes;
        const Candidate& c = **found;
        const auto add = [&](std::string_view name, std::string value) {
            attributes[std::string(kPrefix) + std::string(name)] = std::move(value);
        };
        add("id", std::to_string(c.id));
        add("prospect", std::to_string(c.prospect.value));
        add("band", std::string(word_for(c.prospect.band)));
        add("state", std::string(word_for(c.record.state)));
        add("origin", std::string(word_for(c.record.origin)));
        add("check", std::string(word_for(c.prospect.check)));
        add("path", c.record.path());
        if (!c.prospect.reasons.empty()) add("reasons", fmt::format("{}", fmt::join(c.prospect.reasons, "\n")));
        return attributes;
    }

  private:
    FindsFolder& finds_;
    const std::map<std::int64_t, MediumPtr>& media_;
    const MountRequest& request_;
    uid_t uid_;
    gid_t gid_;
};

Served& served(fuse_req_t request) { return *static_cast<Served*>(fuse_req_userdata(request)); }

void on_init(void*, fuse_conn_info* connection) {
    connection->max_readahead = kMostRead;
    // Names always come with what is known of the files: who lists them asks for that next.
    connection->want |=
        connection->capable & (FUSE_CAP_READDIRPLUS | FUSE_CAP_PARALLEL_DIROPS | FUSE_CAP_NO_OPENDIR_SUPPORT);
    connection->want &= ~static_cast<unsigned>(FUSE_CAP_READDIRPLUS_AUTO);
}

void on_lookup(fuse_req_t request, fuse_ino_t parent, const char* name) {
    Served& self = served(request);
    self.finds().load_if_changed();
    const auto item = self.finds().lookup(parent, name);
    if (item == nullptr) {
        fuse_reply_err(request, ENOENT);
        return;
    }
    const fuse_entry_param entry = self.entry_of(*item);
    fuse_reply_entry(request, &entry);
}

void on_readlink(fuse_req_t request, fuse_ino_t number) {
    const FindsFolder& finds = served(request).finds();
    const auto item = finds.find(number);
    if (item == nullptr || item->link_to == 0)
        fuse_reply_err(request, item == nullptr ? ENOENT : EINVAL);
    else
        fuse_reply_readlink(request, finds.target_of(*item).c_str());
}

void on_getattr(fuse_req_t request, fuse_ino_t number, fuse_file_info*) {
    Served& self = served(request);
    const auto item = self.finds().find(number);
    if (item == nullptr) {
        fuse_reply_err(request, ENOENT);
        return;
    }
    const struct stat facts = self.facts_of(*item);
    fuse_reply_attr(request, &facts, kKnownFor);
}

// The names of a folder from one on: "." and "..", then what lies in it.
void reply_names(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t from, bool with_facts) {
    Served& self = served(request);
    if (from == 0) self.finds().load_if_changed();
    const auto folder = self.finds().find(number);
    if (folder == nullptr || !folder->is_folder) {
        fuse_reply_err(request, folder == nullptr ? ENOENT : ENOTDIR);
        return;
    }
    std::vector<char> buffer(size);
    std::size_t used = 0;
    for (auto n = static_cast<std::size_t>(from); n < folder->children.size() + 2; ++n) {
        const auto item = n == 0   ? folder
                          : n == 1 ? self.finds().find(number == FindsFolder::kRoot ? number : folder->parent)
                                   : self.finds().find(folder->children[n - 2]);
        if (item == nullptr) continue;
        const std::string name = n == 0 ? "." : n == 1 ? ".." : item->name;
        fuse_entry_param entry = self.entry_of(*item);
        if (n < 2) entry.ino = 0;  // these two are no looking up
        const auto next = static_cast<off_t>(n + 1);
        const std::size_t more =
            with_facts ? fuse_add_direntry_plus(request, buffer.data() + used, size - used, name.c_str(), &entry, next)
                       : fuse_add_direntry(request, buffer.data() + used, size - used, name.c_str(), &entry.attr, next);
        if (more > size - used) break;
        used += more;
    }
    fuse_reply_buf(request, buffer.data(), used);
}

void on_readdir(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t from, fuse_file_info*) {
    reply_names(request, number, size, from, false);
}

void on_readdirplus(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t from, fuse_file_info*) {
    reply_names(request, number, size, from, true);
}

void on_open(fuse_req_t request, fuse_ino_t number, fuse_file_info* info) {
    if ((info->flags & O_ACCMODE) != O_RDONLY) {
        fuse_reply_err(request, EROFS);
        return;
    }
    int error = 0;
    auto file = served(request).open(number, error);
    if (file == nullptr) {
        fuse_reply_err(request, error);
        return;
    }
    info->keep_cache = 1;
    info->fh = reinterpret_cast<std::uint64_t>(file.release());
    fuse_reply_open(request, info);
}

void on_read(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t offset, fuse_file_info* info) {
    Served& self = served(request);
    const auto item = self.finds().find(number);
    auto& file = *reinterpret_cast<OpenFile*>(info->fh);
    std::vector<std::byte> buffer(std::min(size, kMostRead));
    std::size_t had = 0;
    const std::uint64_t length = item != nullptr ? item->size : file.content->size();
    const int error = self.read(file, static_cast<std::uint64_t>(offset), buffer, had, length);
    if (error != 0)
        fuse_reply_err(request, error);
    else
        fuse_reply_buf(request, reinterpret_cast<const char*>(buffer.data()), had);
}

void on_release(fuse_req_t request, fuse_ino_t, fuse_file_info* info) {
    delete reinterpret_cast<OpenFile*>(info->fh);
    fuse_reply_err(request, 0);
}

void reply_value(fuse_req_t request, const std::string& value, std::size_t size) {
    if (size == 0)
        fuse_reply_xattr(request, value.size());
    else if (value.size() > size)
        fuse_reply_err(request, ERANGE);
    else
        fuse_reply_buf(request, value.data(), value.size());
}

void on_getxattr(fuse_req_t request, fuse_ino_t number, const char* name, std::size_t size) {
    // Who lists long asks each file for an access list; told that there are none, it asks once.
    if (!std::string_view(name).starts_with("user.")) {
        fuse_reply_err(request, ENOTSUP);
        return;
    }
    const auto attributes = served(request).attributes_of(number);
    const auto found = attributes.find(name);
    if (found == attributes.end())
        fuse_reply_err(request, ENODATA);
    else
        reply_value(request, found->second, size);
}

void on_listxattr(fuse_req_t request, fuse_ino_t number, std::size_t size) {
    std::string names;
    for (const auto& [name, value] : served(request).attributes_of(number)) names += name + '\0';
    reply_value(request, names, size);
}

void on_statfs(fuse_req_t request, fuse_ino_t) {
    struct statvfs facts {};
    facts.f_bsize = facts.f_frsize = 4096;
    facts.f_files = served(request).finds().files();
    facts.f_namemax = 255;
    facts.f_flag = ST_RDONLY;
    fuse_reply_statfs(request, &facts);
}

fuse_lowlevel_ops operations() {
    fuse_lowlevel_ops ops{};
    ops.init = on_init;
    ops.lookup = on_lookup;
    ops.getattr = on_getattr;
    ops.readlink = on_readlink;
    ops.readdir = on_readdir;
    ops.readdirplus = on_readdirplus;
    ops.open = on_open;
    ops.read = on_read;
    ops.release = on_release;
    ops.getxattr = on_getxattr;
    ops.listxattr = on_listxattr;
    ops.statfs = on_statfs;
    return ops;
}

struct Destroyed {
    void operator()(fuse_session* session) const { fuse_session_destroy(session); }
};

tl::unexpected<Error> no_fuse(const std::filesystem::path& place) {
    const char* advice = "is it an empty folder of yours? Mounting needs the package fuse3";
    if (::access("/dev/fuse", F_OK) != 0)
        advice = "there is no /dev/fuse: install the package fuse3, and load the kernel's module fuse";
    else if (::access("/dev/fuse", R_OK | W_OK) != 0)
        advice = "you may not open /dev/fuse: mount as root, or ask for that right";
    return fail(ErrorKind::output, "the finds can't be mounted here", place.string(), advice);
}

}  // namespace

Result<void> serve_mounted(FindsFolder& finds, const std::map<std::int64_t, MediumPtr>& media,
                           const MountRequest& request, const std::function<void()>& is_mounted) {
    Served self(finds, media, request);
    std::vector<std::string> words = {"dredger", "-o", "ro,noexec,nosuid,nodev,fsname=dredger,subtype=dredger"};
    if (request.everybody) words.back() += ",allow_other";
    std::vector<char*> pointers;
    for (std::string& word : words) pointers.push_back(word.data());
    fuse_args arguments = FUSE_ARGS_INIT(static_cast<int>(pointers.size()), pointers.data());
    const fuse_lowlevel_ops ops = operations();
    const std::unique_ptr<fuse_session, Destroyed> session(fuse_session_new(&arguments, &ops, sizeof ops, &self));
    fuse_opt_free_args(&arguments);
    if (!session) return no_fuse(request.place);
    if (fuse_set_signal_handlers(session.get()) != 0) return no_fuse(request.place);
    if (fuse_session_mount(session.get(), request.place.c_str()) != 0) {
        fuse_remove_signal_handlers(session.get());
        return no_fuse(request.place);
    }
    is_mounted();
    fuse_loop_config config{};
    config.max_idle_threads = 8;
    const int ended = fuse_session_loop_mt(session.get(), &config);
    fuse_session_unmount(session.get());
    fuse_remove_signal_handlers(session.get());
    if (ended < 0)
        return fail(ErrorKind::output, fmt::format("serving the mounted finds failed: {}", std::strerror(-ended)),
                    request.place.string(), "unmount it with fusermount3 -u, and mount again");
    return {};
}

}  // namespace dredger
