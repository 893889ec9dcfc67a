#include "filesystems/iso9660/iso9660.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "base/checked.h"
#include "filesystems/posix.h"

namespace dredger::iso9660 {
namespace {

constexpr std::uint64_t kSessionStep = 16;          // sectors; sessions begin at multiples of it
constexpr unsigned kMaxDescriptors = 64;            // of one session
constexpr std::uint64_t kLargestFolder = 64 << 20;  // bytes
constexpr std::uint64_t kMaxSessions = 1000;

std::string trimmed(std::string text) {
    while (!text.empty() && (text.back() == ' ' || text.back() == '\0')) text.pop_back();
    return text;
}

std::string label_of(const VolumeDescriptor& descriptor, bool joliet) {
    if (!joliet) return trimmed(code_page_to_utf8(descriptor.volume_identifier, CodePage::cp850));
    std::u16string text;
    for (std::size_t i = 0; i + 1 < sizeof descriptor.volume_identifier; i += 2)
        text += static_cast<char16_t>(static_cast<unsigned>(descriptor.volume_identifier[i]) << 8U |
                                      static_cast<unsigned>(descriptor.volume_identifier[i + 1]));
    return trimmed(utf16_to_utf8(text));
}

std::optional<VolumeDescriptor> descriptor_at(const Medium& volume, std::uint64_t sector) {
    const auto bytes = bytes_at(volume, sector * kSector, kSector);
    if (!bytes || !ByteView(*bytes).has(1, "CD001")) return std::nullopt;
    const auto descriptor = ByteView(*bytes).as<VolumeDescriptor>(0);
    return descriptor ? std::optional(*descriptor) : std::nullopt;
}

bool is_joliet(const VolumeDescriptor& d) {
    const std::string_view escape(d.escape_sequences, 3);
    return d.type == kSupplementary && (escape == "%/@" || escape == "%/C" || escape == "%/E");
}

// The session whose descriptors begin 16 sectors behind `start`; its root may lie anywhere on the volume.
std::optional<Session> session_at(const Medium& volume, std::uint64_t start) {
    std::optional<Session> session;
    std::optional<VolumeDescriptor> joliet;
    for (std::uint64_t n = 0; n < kMaxDescriptors; ++n) {
        const auto d = descriptor_at(volume, start + kFirstDescriptor + n);
        if (!d || d->type == kTerminator) break;
        const std::uint64_t block = d->logical_block_size.little;
        if (block < 512 || block > kSector || (block & (block - 1)) != 0) continue;
        const DirectoryRecord& root = d->root_directory_record;
        const Extent place{std::uint64_t{root.location_of_extent.little} * block, root.data_length.little};
        if (place.length == 0 || place.length > kLargestFolder ||
            !lies_within(place.offset, place.length, volume.size()))
            continue;
        if (is_joliet(*d)) joliet = d;
        if (d->type != kPrimary || session) continue;
        session.emplace();
        session->start = start;
        session->block = block;
        session->blocks = d->volume_space_size.little;
        session->label = label_of(*d, false);
        session->created = {d->volume_creation_date, 16};
        session->root = place;
        const auto content = bytes_at(volume, place.offset, static_cast<std::size_t>(place.length));
        if (const auto skip = content ? rock_ridge_skip(volume, ByteView(*content), block) : std::nullopt) {
            session->naming = Naming::rock_ridge;
            session->susp_skip = *skip;
        }
    }
    if (session && joliet && session->naming == Naming::plain) {
        const DirectoryRecord& root = joliet->root_directory_record;
        session->naming = Naming::joliet;
        session->root = {std::uint64_t{root.location_of_extent.little} * session->block, root.data_length.little};
        session->label = label_of(*joliet, true);
    }
    return session;
}

// The last one first: what is written later lies further behind.
std::vector<Session> find_sessions(const Medium& volume) {
    std::vector<Session> sessions;
    std::set<std::uint64_t> roots;
    const auto add = [&](std::uint64_t start) {
        auto session = session_at(volume, start);
        if (session && roots.insert(session->root.offset).second) sessions.push_back(std::move(*session));
    };
    add(0);
    if (sessions.empty()) return sessions;
    const std::uint64_t sectors = volume.size() / kSector;
    // The second sector of descriptors says "CD001" as well; the first one is what is looked for.
    for (std::uint64_t start = kSessionStep; start + kFirstDescriptor < sectors && sessions.size() < kMaxSessions;
         start += kSessionStep)
        if (stands_at(volume, (start + kFirstDescriptor) * kSector,
                      "\x01"
                      "CD001"))
            add(start);
    std::stable_sort(sessions.begin(), sessions.end(),
                     [](const Session& a, const Session& b) { return a.root.offset > b.root.offset; });
    return sessions;
}

void tell_facts(const Entry& entry, Record& record) {
    if (entry.mode) {
        record.facts.push_back({"mode", mode_text(static_cast<std::uint16_t>(*entry.mode))});
        record.facts.push_back({"owner", fmt::format("{}:{}", entry.uid.value_or(0), entry.gid.value_or(0))});
    }
    if (!entry.target.empty()) {
        record.attributes.emplace_back("symbolic link");
        record.facts.push_back({"target", entry.target});
    }
    if (entry.is_hidden) record.attributes.emplace_back("hidden");
}

Record record_for(const std::string& folder, const Entry& entry) {
    Record record;
    record.identity.number = entry.place;
    record.folder = folder;
    record.name = entry.name;
    record.is_folder = entry.is_folder;
    record.modified = entry.modified ? entry.modified : entry.recorded;
    record.accessed = entry.accessed;
    record.changed = entry.changed;
    record.created = entry.created;
    if (entry.is_folder) {
        record.keeping = entry.extents;
    } else {
        record.size = entry.size;
        record.layout.lay(entry.extents);
    }
    tell_facts(entry, record);
    return record;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    auto sessions = find_sessions(*volume);
    if (sessions.empty()) return nullptr;
    return std::make_unique<Iso9660>(std::move(volume), std::move(sessions));
}

Iso9660::Iso9660(MediumPtr volume, std::vector<Session> sessions)
    : volume_(std::move(volume)), sessions_(std::move(sessions)) {
    const Session& last = sessions_.front();
    facts_.filesystem = "ISO 9660";
    facts_.label = last.label;
    facts_.serial = last.created;
    facts_.cluster_size = last.block;
    facts_.size = (last.start * kSector) + last.blocks * last.block;
    const std::uint64_t units = divide_up(volume_->size(), kSector);
    space_ = SpaceMap(0, kSector, units);
    space_.take_run(0, std::min<std::uint64_t>(units, last.start + kFirstDescriptor + 8));
    const auto take = [&](const Extent& extent) {
        if (extent.offset / kSector < units)
            space_.take_run(extent.offset / kSector,
                            std::min(units - extent.offset / kSector, divide_up(extent.length, kSector)));
    };
    std::vector<Extent> folders;
    walk_tree(
        last,
        [&](const std::string&, const Entry& entry) {
            for (const Extent& extent : entry.extents) take(extent);
            return true;
        },
        facts_.warnings, &folders);
    for (const Extent& folder : folders) take(folder);
    facts_.used = space_.taken_bytes();
    if (last.blocks * last.block > volume_->size())
        facts_.warnings.push_back(fmt::format("the disc should have {} bytes, {} can be read: it is cut short",
                                              last.blocks * last.block, volume_->size()));
}

// Folder by folder; each is read once, whatever leads to it.
bool Iso9660::walk_tree(const Session& session, const Visit& visit, std::vector<std::string>& warnings,
                        std::vector<Extent>* folders) const {
    struct Waiting {
        std::string folder;
        Extent place;
    };
    std::vector<Waiting> waiting = {{"", session.root}};
    std::set<std::uint64_t> seen;
    while (!waiting.empty()) {
        const Waiting here = std::move(waiting.back());
        waiting.pop_back();
        if (!seen.insert(here.place.offset).second) continue;
        if (here.place.length > kLargestFolder || !lies_within(here.place.offset, here.place.length, volume_->size())) {
            warnings.push_back(fmt::format("the folder {} lies past the end of the disc", here.folder));
            continue;
        }
        std::vector<std::byte> content(static_cast<std::size_t>(here.place.length));
        std::vector<Extent> bad;
        if (!volume_->read(here.place.offset, content, &bad)) continue;
        if (!bad.empty()) warnings.push_back(fmt::format("parts of the folder {} can't be read", here.folder));
        if (folders != nullptr) folders->push_back(here.place);
        std::vector<Waiting> below;
        for (Entry& entry : read_directory(*volume_, ByteView(content, here.place.offset), here.place.offset,
                                           session.block, session.naming, session.susp_skip)) {
            if (entry.name.empty()) continue;
            // Folders that lie too deep for the plain tree stand elsewhere; what leads to them is a file.
            if (entry.was_moved) continue;
            if (entry.child_link != 0) {
                entry.is_folder = true;
                const auto self = bytes_at(*volume_, entry.child_link * session.block, sizeof(DirectoryRecord));
                if (!self) continue;
                entry.extents = {{entry.child_link * session.block,
                                  ByteView(*self).as<DirectoryRecord>(0)->data_length.little.value()}};
            }
            // Where Rock Ridge moves folders to is no place of its own.
            const bool is_shelter = session.naming == Naming::rock_ridge && here.folder.empty() && entry.is_folder &&
                                    (entry.name == "rr_moved" || entry.name == ".rr_moved");
            if (!is_shelter && !visit(here.folder, entry)) return false;
            if (entry.is_folder && !entry.extents.empty())
                if (!is_shelter) below.push_back({joined(here.folder, entry.name), entry.extents.front()});
        }
        waiting.insert(waiting.end(), std::make_move_iterator(below.rbegin()), std::make_move_iterator(below.rend()));
    }
    return true;
}

Result<void> Iso9660::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    // What was told of, by path and place: an earlier session's record of the same is no other file.
    std::set<std::pair<std::string, std::uint64_t>> told;
    std::set<std::string> folders;
    for (std::size_t n = 0; n < sessions_.size(); ++n) {
        const bool is_last = n == 0;
        if (!is_last && options.live_only) break;
        const bool went_on = walk_tree(
            sessions_[n],
            [&](const std::string& folder, const Entry& entry) {
                Record record = record_for(folder, entry);
                const std::string path = record.path();
                if (entry.is_folder && !folders.insert(path).second) return true;
                const std::uint64_t place = entry.extents.empty() ? 0 : entry.extents.front().offset;
                if (!entry.is_folder && !told.insert({path, place}).second) return true;
                if (!is_last) {
                    record.state = State::deleted;
                    record.origin = Origin::remnant;
                    record.notes.push_back(
                        fmt::format("it is of an earlier session, {} of {}", sessions_.size() - n, sessions_.size()));
                }
                return sink.take(std::move(record));
            },
            warnings, nullptr);
        if (!went_on) break;
    }
    return {};
}

std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    if (at < kFirstDescriptor * kSector) return std::nullopt;
    const auto d = there.as<VolumeDescriptor>(0);
    if (!d || d->type != kPrimary || d->version != 1) return std::nullopt;
    const std::uint64_t start = at - kFirstDescriptor * kSector;
    const std::uint64_t block = d->logical_block_size.little, length = block * d->volume_space_size.little;
    if (block != kSector || length == 0 || length > medium.size() - start) return std::nullopt;
    // The root directory's first record is its own.
    const std::uint64_t root = start + std::uint64_t{d->root_directory_record.location_of_extent.little} * block;
    const auto self = bytes_at(medium, root, sizeof(DirectoryRecord));
    if (!self || ByteView(*self).as<DirectoryRecord>(0)->location_of_extent.little !=
                     d->root_directory_record.location_of_extent.little)
        return std::nullopt;
    return VolumeTrace{"ISO 9660", label_of(*d, false), start, length, 2, "its descriptor and its root directory agree",
                       at};
}

}  // namespace dredger::iso9660
