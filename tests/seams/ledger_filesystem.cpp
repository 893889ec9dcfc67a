// A file system that no system has, in one file: what the seam asks for, and no more. It is registered here, and
// scanned, listed, shown and restored from by a program that is not changed for it.
//
// A volume begins with a sector that says "LEDGERFS", the size of its clusters, how many there are, and how many lines
// the ledger behind it has. A line is one file or folder: 128 bytes with its state, the line of its folder, its first
// cluster, its size, when it was written, and its name.
#include <fmt/format.h>

#include "filesystems/filesystem.h"
#include "filesystems/tools/folder_path.h"

namespace dredger::ledger {
namespace {

using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

struct Head {
    char magic[8];
    little_uint32_t cluster_size;
    little_uint32_t cluster_count;
    little_uint32_t lines;
    char label[16];
};
struct Line {
    static constexpr std::uint32_t kRoot = 0xFFFFFFFF;
    std::uint8_t is_live, is_folder, reserved[2];
    little_uint32_t folder;  // its line, or kRoot
    little_uint32_t first_cluster;
    little_uint64_t size;     // bytes
    little_uint64_t written;  // seconds since 1970
    char name[96];
    std::uint8_t filling[4];
};
static_assert(sizeof(Line) == 128);

constexpr std::string_view kMagic = "LEDGERFS";
constexpr std::uint64_t kLedgerAt = 512;
constexpr std::uint32_t kMaxLines = 65'536;

std::optional<Head> head_of(const Medium& volume, std::uint64_t at) {
    const auto sector = bytes_at(volume, at, kLedgerAt);
    if (!sector || !ByteView(*sector).has(0, kMagic)) return std::nullopt;
    const Head head = *ByteView(*sector).as<Head>(0);
    if (head.cluster_size < 512 || head.cluster_count == 0 || head.lines > kMaxLines) return std::nullopt;
    return head;
}

class Ledger final : public FileSystem {
  public:
    Ledger(MediumPtr volume, const Head& head, std::vector<Line> lines)
        : volume_(std::move(volume)), head_(head), lines_(std::move(lines)) {
        space_ = SpaceMap(0, head.cluster_size, head.cluster_count);
        const std::uint64_t own = kLedgerAt + lines_.size() * sizeof(Line);
        space_.take_run(0, std::min<std::uint64_t>(clusters(own), head.cluster_count));
        for (const Line& line : lines_)
            if (line.is_live != 0 && lies_within(line.first_cluster, clusters(line.size), head.cluster_count))
                space_.take_run(line.first_cluster, clusters(line.size));
        facts_.filesystem = "Ledger";
        facts_.label = head.label;
        facts_.cluster_size = head.cluster_size;
        facts_.size = std::uint64_t{head.cluster_size} * head.cluster_count;
        facts_.used = space_.taken_bytes();
    }

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }

    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override {
        for (std::uint32_t number = 0; number < lines_.size(); ++number) {
            const Line& line = lines_[number];
            if (options.live_only && line.is_live == 0) continue;
            if (line.name[0] == '\0') {
                warnings.push_back(fmt::format("line {} of the ledger has no name, and is left out", number));
                continue;
            }
            Record record;
            record.identity.number = number;
            record.folder = path_of(line.folder);
            record.name = name_of(line);
            record.is_folder = line.is_folder != 0;
            record.state = line.is_live != 0 ? State::live : State::deleted;
            record.modified = FileTime{static_cast<std::int64_t>(line.written.value()), 0};
            record.size = record.is_folder ? 0 : line.size.value();
            if (record.size > 0) record.layout.extents = {{offset_of(line.first_cluster), record.size}};
            if (!sink.take(std::move(record))) break;
        }
        return {};
    }

  private:
    std::uint64_t clusters(std::uint64_t bytes) const { return divide_up(bytes, head_.cluster_size); }
    std::uint64_t offset_of(std::uint32_t cluster) const { return std::uint64_t{cluster} * head_.cluster_size; }
    static std::string name_of(const Line& line) { return {line.name, ::strnlen(line.name, sizeof line.name)}; }
    std::string path_of(std::uint32_t folder) const {
        const auto step_of = [this](std::uint32_t at) -> std::optional<FolderStep<std::uint32_t>> {
            if (at == Line::kRoot) return FolderStep<std::uint32_t>{0, "", true};
            if (at >= lines_.size()) return std::nullopt;
            return FolderStep<std::uint32_t>{lines_[at].folder, name_of(lines_[at]), false};
        };
        return folder_place(folder, step_of, [](std::uint32_t at) { return fmt::format("(folder {})", at); }).path;
    }

    MediumPtr volume_;
    Head head_;
    std::vector<Line> lines_;
    VolumeFacts facts_;
    SpaceMap space_;
};

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    const auto head = head_of(*volume, 0);
    if (!head) return nullptr;
    const auto ledger = bytes_at(*volume, kLedgerAt, std::size_t{head->lines} * sizeof(Line));
    if (!ledger)
        return fail(ErrorKind::not_understood, "the ledger reaches behind the end of the volume", volume->name());
    std::vector<Line> lines;
    for (std::size_t i = 0; i < head->lines; ++i) lines.push_back(*ByteView(*ledger).as<Line>(i * sizeof(Line)));
    return std::make_unique<Ledger>(std::move(volume), *head, std::move(lines));
}

std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView) {
    const auto head = head_of(medium, at);
    if (!head) return std::nullopt;
    return VolumeTrace{"Ledger", head->label, at, std::uint64_t{head->cluster_size} * head->cluster_count,
                       1,        "its head",  at};
}

const bool is_registered = [] {
    add_filesystem_kind({"Ledger", open, {0, kMagic, trace}});
    return true;
}();

}  // namespace
}  // namespace dredger::ledger
