#include "filesystems/udf/udf.h"

#include <fmt/format.h>
#include <set>

#include "base/checked.h"
#include "filesystems/posix.h"
#include "media/content.h"
#include "media/window.h"

namespace dredger::udf {
namespace {

constexpr std::uint64_t kLargestFolder = 64 << 20;  // bytes

// 4/14.9.5: execute, write, read, and two more, for others, the group and the owner, five bits each.
std::uint16_t mode_of(const Node& node) {
    const std::uint32_t p = node.permissions;
    const auto three = [&](unsigned at) {
        return static_cast<std::uint16_t>((p >> at & 1U) | (p >> (at + 1) & 1U) << 1U | (p >> (at + 2) & 1U) << 2U);
    };
    const std::uint16_t type = node.type == kDirectoryType      ? kFolderType
                               : node.type == udf::kSymlinkType ? dredger::kSymlinkType
                                                                : kFileType;
    return static_cast<std::uint16_t>(type | three(10) << 6U | three(5) << 3U | three(0));
}

Record record_for(const std::string& folder, std::string name, const Node& node) {
    Record record;
    record.identity.number = node.place;
    record.folder = folder;
    record.name = std::move(name);
    record.is_folder = node.type == kDirectoryType;
    record.created = node.created;
    record.modified = node.modified;
    record.accessed = node.accessed;
    record.changed = node.changed;
    record.keeping = node.own;
    if (record.is_folder) {
        record.keeping.insert(record.keeping.end(), node.layout.extents.begin(), node.layout.extents.end());
        std::erase_if(record.keeping, [](const Extent& e) { return !e.is_stored(); });
    } else {
        record.size = node.size;
        record.layout = node.layout;
    }
    constexpr std::uint32_t kNobody = 0xFFFFFFFF;
    record.facts.push_back({"mode", mode_text(mode_of(node))});
    if (node.uid != kNobody) record.facts.push_back({"owner", fmt::format("{}:{}", node.uid, node.gid)});
    if (node.type == udf::kSymlinkType) record.attributes.emplace_back("symbolic link");
    return record;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    std::vector<std::string> warnings;
    auto disc = Disc::open(std::move(volume), warnings);
    if (!disc) return nullptr;
    return std::make_unique<Udf>(std::move(*disc), std::move(warnings));
}

Udf::Udf(Disc disc, std::vector<std::string> warnings) : disc_(std::move(disc)) {
    facts_.warnings = std::move(warnings);
    facts_.filesystem = "UDF";
    facts_.label = disc_.label();
    facts_.cluster_size = disc_.block();
    facts_.size = disc_.size();
    const std::uint64_t units = disc_.volume()->size() / disc_.block();
    space_ = SpaceMap(0, disc_.block(), units);
    constexpr std::uint64_t kReserved = 272;  // blocks in front of the first partition, mostly
    space_.take_run(0, std::min(units, kReserved));
    walk_tree(
        true,
        [&](Record&&, const Node& node) {
            const auto take = [&](const Extent& extent) {
                if (extent.is_stored() && extent.offset / disc_.block() < units)
                    space_.take_run(extent.offset / disc_.block(),
                                    std::min(units - extent.offset / disc_.block(),
                                             divide_up(extent.offset % disc_.block() + extent.length, disc_.block())));
            };
            std::for_each(node.own.begin(), node.own.end(), take);
            std::for_each(node.layout.extents.begin(), node.layout.extents.end(), take);
            return true;
        },
        facts_.warnings);
    facts_.used = space_.taken_bytes();
}

void Udf::walk_tree(bool live_only, const Visit& visit, std::vector<std::string>& warnings) const {
    struct Waiting {
        std::string folder;
        Node node;
        bool is_deleted;
    };
    const auto root = disc_.node(disc_.root());
    if (!root) {
        warnings.emplace_back("the root folder can't be read");
        return;
    }
    std::vector<Waiting> waiting = {{"", *root, false}};
    std::set<std::uint64_t> seen;
    while (!waiting.empty()) {
        const Waiting here = std::move(waiting.back());
        waiting.pop_back();
        if (!seen.insert(here.node.place).second) continue;
        if (here.node.size > kLargestFolder) {
            warnings.push_back(fmt::format("the folder {} can't be as large as it says", here.folder));
            continue;
        }
        const auto content = open_content(disc_.volume(), here.node.layout, here.node.size);
        std::vector<std::byte> bytes(static_cast<std::size_t>(std::min(content->size(), here.node.size)));
        std::vector<Extent> bad;
        if (!content->read(0, bytes, &bad)) continue;
        if (!bad.empty()) warnings.push_back(fmt::format("parts of the folder {} can't be read", here.folder));
        const ByteView view(bytes);
        std::vector<Waiting> below;
        for (std::size_t at = 0; at + sizeof(FileIdentifierDescriptor) <= view.size();) {
            const auto rest = *view.slice(at, view.size() - at);
            const auto tag = tag_of(rest);
            if (!tag || tag->identifier != kFileIdentifier) {
                at += 4;  // the next one that makes sense
                continue;
            }
            const auto id = *rest.as<FileIdentifierDescriptor>(0);
            const std::size_t name_at = sizeof id + id.implementation_use_length;
            const auto name = rest.slice(name_at, id.identifier_length);
            at += (name_at + id.identifier_length + 3) / 4 * 4;
            if (!name || (id.characteristics & kIsParent) != 0) continue;
            const bool is_deleted = here.is_deleted || (id.characteristics & kIsDeleted) != 0;
            if (is_deleted && live_only) continue;
            std::string text = text_of(*name);
            if (text.empty()) continue;
            auto node = disc_.node(id.icb);
            if (!node || ((id.characteristics & kIsDirectory) != 0) != (node->type == kDirectoryType)) {
                if (!is_deleted) {
                    warnings.push_back(fmt::format("the entry of {} can't be read", joined(here.folder, text)));
                    continue;
                }
                // Its entry is gone: only the name is left.
                node.emplace();
                node->place = here.node.place + at;
                node->type = (id.characteristics & kIsDirectory) != 0 ? kDirectoryType : kRegularType;
                Record record = record_for(here.folder, std::move(text), *node);
                record.state = State::deleted;
                record.trust = LayoutTrust::none;
                record.facts.clear();
                record.notes.emplace_back("its entry on the disc is overwritten: only its name is left");
                if (!visit(std::move(record), Node{})) return;
                continue;
            }
            Record record = record_for(here.folder, text, *node);
            if ((id.characteristics & kIsHidden) != 0) record.attributes.emplace_back("hidden");
            if (is_deleted) record.state = State::deleted;
            // Drivers that free a file's blocks write its entry once more, with nothing in it.
            if (is_deleted && !record.is_folder && node->size == 0 && node->links == 0) {
                record.trust = LayoutTrust::none;
                record.notes.emplace_back("its entry was emptied when it was deleted: only its name is left");
            }
            if (!visit(std::move(record), *node)) return;
            if (node->type == kDirectoryType) below.push_back({joined(here.folder, text), *node, is_deleted});
        }
        waiting.insert(waiting.end(), std::make_move_iterator(below.rbegin()), std::make_move_iterator(below.rend()));
    }
}

Result<void> Udf::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    walk_tree(
        options.live_only, [&](Record&& record, const Node&) { return sink.take(std::move(record)); }, warnings);
    return {};
}

std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    constexpr std::uint64_t kBlock = 2048, kAnchorAt = 256 * kBlock;
    const auto tag = tag_of(there);
    if (!tag || tag->identifier != kAnchor || tag->location != 256 || at < kAnchorAt) return std::nullopt;
    const std::uint64_t start = at - kAnchorAt;
    std::vector<std::string> warnings;
    const auto part = std::make_shared<Window>(std::shared_ptr<const Medium>(std::shared_ptr<void>(), &medium), start,
                                               medium.size() - start);
    const auto disc = Disc::open(part, warnings);
    if (!disc || disc->size() == 0 || disc->size() > part->size()) return std::nullopt;
    return VolumeTrace{"UDF", disc->label(), start, disc->size(), 2, "its anchor leads to its root folder", at};
}

}  // namespace dredger::udf
