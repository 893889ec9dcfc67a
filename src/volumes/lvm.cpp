#include "volumes/lvm.h"

#include <algorithm>
#include <boost/endian/arithmetic.hpp>
#include <charconv>
#include <fmt/format.h>
#include <map>

#include "base/checked.h"
#include "base/text.h"
#include "volumes/trace.h"

namespace dredger::lvm {
namespace {

using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kMaxMetadata = 16 << 20;  // bytes
constexpr int kDeepest = 16;

struct LabelHeader {
    char id[8];  // "LABELONE"
    little_uint64_t sector_xl;
    little_uint32_t crc_xl;
    little_uint32_t offset_xl;  // of the header behind it
    char type[8];               // "LVM2 001"
};
struct DiskLocation {
    little_uint64_t offset;
    little_uint64_t size;
};
struct MetadataHeader {
    little_uint32_t checksum_xl;
    char magic[16];
    little_uint32_t version;
    little_uint64_t start;  // bytes, on the physical volume
    little_uint64_t size;
};
struct RawLocation {  // behind it
    little_uint64_t offset;
    little_uint64_t size;
    little_uint32_t checksum;
    little_uint32_t flags;
};
constexpr std::size_t kUuid = 32;

// The metadata's text: sections of values and further sections.
struct Section {
    std::map<std::string, std::string> values;  // of a list, all of it: what stands between its brackets
    std::map<std::string, Section> sections;

    std::uint64_t number(const std::string& name) const {
        const auto value = values.find(name);
        std::uint64_t number = 0;
        if (value != values.end())
            std::from_chars(value->second.data(), value->second.data() + value->second.size(), number);
        return number;
    }
    std::string text(const std::string& name) const {
        const auto value = values.find(name);
        return value == values.end() ? std::string() : value->second;
    }
};

class Parser {
  public:
    explicit Parser(std::string_view text) : text_(text) {}
    Section parse() { return section(0); }

  private:
    Section section(int depth) {
        Section read;
        while (skip() && text_[at_] != '}') {
            const std::string name = word();
            if (name.empty() || !skip()) break;
            if (text_[at_] == '{') {
                ++at_;
                if (depth >= kDeepest) break;
                read.sections[name] = section(depth + 1);
                if (skip() && text_[at_] == '}') ++at_;
            } else if (text_[at_] == '=') {
                ++at_;
                read.values[name] = value();
            } else {
                break;
            }
        }
        return read;
    }

    // To what comes next, past spaces and comments. False: nothing does.
    bool skip() {
        while (at_ < text_.size()) {
            if (text_[at_] == '#')
                at_ = std::min(text_.find('\n', at_), text_.size());
            else if (text_[at_] == '\0' || std::string_view(" \t\r\n,").find(text_[at_]) != std::string_view::npos)
                ++at_;
            else
                return true;
        }
        return false;
    }
    std::string word() {
        const std::size_t from = at_;
        at_ = std::min(text_.find_first_of(" \t\r\n={}#", at_), text_.size());
        return std::string(text_.substr(from, at_ - from));
    }
    std::string value() {
        if (!skip()) return {};
        const char close = text_[at_] == '"' ? '"' : text_[at_] == '[' ? ']' : '\n';
        const std::size_t from = at_ + (close == '\n' ? 0 : 1);
        at_ = std::min(text_.find(close, from), text_.size());
        std::string read(text_.substr(from, at_ - from));
        if (at_ < text_.size()) ++at_;
        return read;
    }

    std::string_view text_;
    std::size_t at_ = 0;
};

// The newest metadata in an area, which is written round and round.
std::string metadata_in(const Medium& volume, const DiskLocation& area) {
    const auto head = bytes_at(volume, area.offset, sizeof(MetadataHeader) + sizeof(RawLocation));
    if (!head || !ByteView(*head).has(4, " LVM2 x[5A%r0N*>")) return {};
    const auto header = *ByteView(*head).as<MetadataHeader>(0);
    const auto raw = *ByteView(*head).as<RawLocation>(sizeof(MetadataHeader));
    if (raw.size == 0 || raw.size > kMaxMetadata || raw.offset >= header.size || header.start != area.offset) return {};
    const std::uint64_t first = std::min<std::uint64_t>(raw.size, header.size - raw.offset);
    auto text = bytes_at(volume, header.start + raw.offset, static_cast<std::size_t>(first));
    if (!text) return {};
    if (first < raw.size) {
        const auto rest = bytes_at(volume, header.start + kSector, static_cast<std::size_t>(raw.size - first));
        if (!rest) return {};
        text->insert(text->end(), rest->begin(), rest->end());
    }
    return {reinterpret_cast<const char*>(text->data()), text->size()};
}

// The physical volume of this UUID, by the name that segments call it.
std::string name_of(const Section& physical_volumes, const std::string& uuid) {
    for (const auto& [name, section] : physical_volumes.sections) {
        std::string id = section.text("id");
        std::erase(id, '-');
        if (id == uuid) return name;
    }
    return {};
}

// Where a logical volume lies, if all of it lies in runs on this physical volume; else what it is.
std::string lay(const Section& logical, const std::string& own, std::uint64_t extent, std::uint64_t start,
                Volume& volume) {
    for (std::uint64_t n = 1; n <= logical.number("segment_count"); ++n) {
        const auto found = logical.sections.find(fmt::format("segment{}", n));
        if (found == logical.sections.end()) return "incomplete";
        const Section& segment = found->second;
        const std::string type = segment.text("type");
        if (type != "striped" && type != "linear") return type;
        if (segment.number("stripe_count") > 1) return "striped over several disks";
        const std::string stripes = segment.text("stripes");  // "pv0", 0
        const std::size_t quote = stripes.find('"'), end = stripes.find('"', quote + 1);
        if (quote == std::string::npos || end == std::string::npos) return "incomplete";
        if (stripes.substr(quote + 1, end - quote - 1) != own) return "on another disk in part";
        std::uint64_t first = 0;
        const std::size_t digits = stripes.find_first_of("0123456789", end);
        if (digits == std::string::npos) return "incomplete";
        std::from_chars(stripes.data() + digits, stripes.data() + stripes.size(), first);
        const auto offset = checked_mul(first, extent);
        const auto length = checked_mul(segment.number("extent_count"), extent);
        if (!offset || !length || *length == 0 || !checked_add(*offset, start)) return "incomplete";
        Extent piece{*offset + start, *length};
        if (!volume.pieces.empty() && volume.pieces.back().end() == piece.offset)
            volume.pieces.back().length += piece.length;
        else
            volume.pieces.push_back(piece);
    }
    return volume.pieces.empty() ? "empty" : "";
}

void add_logical_volumes(const std::string& text, const std::string& uuid, Container& container) {
    const Section whole = Parser(text).parse();
    for (const auto& [group, section] : whole.sections) {
        const auto physical = section.sections.find("physical_volumes");
        if (physical == section.sections.end()) continue;
        const std::string own = name_of(physical->second, uuid);
        if (own.empty()) continue;
        container.type = fmt::format("LVM2 physical volume of group {}", printable(group));
        const auto extent = checked_mul(section.number("extent_size"), kSector);
        const auto start = checked_mul(physical->second.sections.at(own).number("pe_start"), kSector);
        const auto logical = section.sections.find("logical_volumes");
        if (!extent || !start || *extent == 0 || logical == section.sections.end()) continue;
        for (const auto& [name, one] : logical->second.sections) {
            Volume volume;
            volume.type = "LVM2";
            volume.name = printable(group + "/" + name);
            const std::string trouble = lay(one, own, *extent, *start, volume);
            if (trouble.empty())
                container.volumes.push_back(std::move(volume));
            else
                container.remarks.push_back(fmt::format(
                    "its logical volume {} is {}: activate the group read-only (vgchange -ay) with all its disks and "
                    "scan /dev/{}",
                    volume.name, trouble, volume.name));
        }
    }
}

}  // namespace

std::optional<Container> look(const Medium& volume) {
    constexpr std::uint64_t kLabelSectors = 4;
    constexpr std::size_t kMaxLocations = 16;
    for (std::uint64_t n = 0; n < kLabelSectors; ++n) {
        const auto sector = bytes_at(volume, n * kSector, kSector);
        if (!sector) return std::nullopt;
        const ByteView view(*sector);
        if (!view.has(0, "LABELONE") || !view.has(24, "LVM2 001")) continue;
        const std::size_t at = view.as<LabelHeader>(0)->offset_xl;
        const auto id = view.slice(at, kUuid);
        if (!id) return std::nullopt;
        const std::string uuid(reinterpret_cast<const char*>(id->bytes().data()), kUuid);
        Container container;
        container.type = "LVM2 physical volume";
        // Behind the UUID and the size: places of data, then of metadata, each list up to an empty one.
        std::size_t location = at + kUuid + 8;
        const auto next = [&] {
            const auto read = view.as<DiskLocation>(location);
            location += sizeof(DiskLocation);
            return read && read->offset != 0 ? std::optional(*read) : std::nullopt;
        };
        for (std::size_t i = 0; i < kMaxLocations && next(); ++i) continue;
        for (std::size_t i = 0; i < kMaxLocations && container.volumes.empty(); ++i) {
            const auto area = next();
            if (!area) break;
            add_logical_volumes(metadata_in(volume, *area), uuid, container);
        }
        std::sort(container.volumes.begin(), container.volumes.end(),
                  [](const Volume& a, const Volume& b) { return a.pieces.front().offset < b.pieces.front().offset; });
        if (container.volumes.empty() && container.remarks.empty())
            container.remarks.emplace_back("its metadata tells of no logical volume");
        return container;
    }
    return std::nullopt;
}

}  // namespace dredger::lvm
