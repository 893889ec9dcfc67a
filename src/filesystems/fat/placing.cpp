#include "filesystems/fat/placing.h"

#include <algorithm>
#include <fmt/format.h>
#include <numeric>

namespace dredger::fat {
namespace {

constexpr std::size_t kHeadBytes = 512;
constexpr std::string_view kLongExtensions[] = {"docx", "xlsx", "pptx", "jpeg",  "tiff",    "mpeg",
                                                "webp", "webm", "heic", "flac",  "aiff",    "epub",
                                                "opus", "m2ts", "divx", "pages", "numbers", "sqlite"};

}  // namespace

Agreement Placing::begins_as_named(const Deleted& file, std::uint32_t cluster) const {
    if (!options_.head_for_name || !geometry_.holds(cluster)) return Agreement::unknown;
    std::byte head[kHeadBytes];
    const auto part = std::span(head).first(std::min<std::size_t>(kHeadBytes, file.item.entry.DIR_FileSize));
    if (!volume_->read(geometry_.offset_of(cluster), part)) return Agreement::unknown;
    return options_.head_for_name(file.name, ByteView(part));
}

// A signature at its start is enough; text begins like any other text, so that its end has to be where the entry says.
Standing Placing::standing_of(const Deleted& file) const {
    if (table_.taken(file.first_cluster)) return Standing::no;
    const Agreement head = file.head ? *file.head : begins_as_named(file, file.first_cluster);
    if (head == Agreement::agrees) return Standing::yes;
    return head == Agreement::fits && ends_as_recorded(file.runs, file.item.entry.DIR_FileSize) ? Standing::likely
                                                                                                : Standing::no;
}

// Whether content ends where a layout of that many bytes does: drivers leave zeros behind it, up to the end of the
// sector. False where the end of the content is the end of a sector, since then nothing shows it.
bool Placing::ends_as_recorded(const std::vector<Run>& runs, std::uint64_t size) const {
    constexpr std::uint64_t kLeastPadding = 4;
    const auto extents = chains_.extents(runs, size);
    const std::uint64_t end = extents.empty() ? 0 : extents.back().end();
    const std::uint64_t padding = (kHeadBytes - end % kHeadBytes) % kHeadBytes;
    if (end == 0 || padding < kLeastPadding) return false;
    std::byte last[kHeadBytes + 1];
    const auto part = std::span(last).first(static_cast<std::size_t>(padding) + 1);
    if (!volume_->read(end - 1, part)) return false;
    const ByteView behind(part.subspan(1));
    return part[0] != std::byte{0} && behind.is_uniform() && part[1] == std::byte{0};
}

// Of the layouts that are possible, the first whose end shows; else the one that skips all that seems to stand.
std::vector<Run> Placing::most_likely_layout(const Deleted& file, std::uint64_t count) {
    const auto when = written(file.item.entry);
    auto skips_all = layouts_.lay_out(file.first_cluster, count, when, Standing::likely);
    auto skips_sure = layouts_.lay_out(file.first_cluster, count, when, Standing::yes);
    if (skips_all == skips_sure || ends_as_recorded(skips_all, file.item.entry.DIR_FileSize)) return skips_all;
    return ends_as_recorded(skips_sure, file.item.entry.DIR_FileSize) ? skips_sure : skips_all;
}

// On FAT32 some systems clear the high half of a deleted entry's first cluster. Where the low half alone leads to what
// can't be the file, the other possible places are tried; only one whose content agrees is taken.
void Placing::find_start(Deleted& file) const {
    const std::uint32_t low = file.first_cluster;
    if (geometry_.width != Width::fat32 || low >= 0x10000 || file.item.entry.DIR_FileSize == 0) return;
    const bool possible = geometry_.holds(low) && !table_.taken(low);
    if (possible && !speaks_against(*(file.head = begins_as_named(file, low)))) return;
    // Where the deleting system is seen to keep the high halves, text alone is too little to go by.
    const auto is_enough = [&](Agreement head) {
        return head == Agreement::agrees || (head == Agreement::fits && !high_halves_kept_);
    };
    std::vector<std::uint32_t> found;
    for (std::uint32_t high = 1; high <= geometry_.last_cluster() >> 16; ++high) {
        const std::uint32_t cluster = high << 16 | low;
        if (!geometry_.holds(cluster) || table_.taken(cluster) || known_starts_.contains(cluster) ||
            layouts_.is_deleted_folder(cluster))
            continue;
        if (is_enough(begins_as_named(file, cluster))) found.push_back(cluster);
    }
    if (found.empty()) return;
    file.head.reset();
    const auto distance = [&](std::uint32_t cluster) {
        const std::uint32_t folder = folders_[file.folder].first_cluster;
        return cluster > folder ? cluster - folder : folder - cluster;
    };
    file.first_cluster =
        *std::min_element(found.begin(), found.end(), [&](auto a, auto b) { return distance(a) < distance(b); });
    file.notes.push_back(
        found.size() == 1
            ? "the high half of its first cluster was cleared; it is inferred from the content"
            : fmt::format("the high half of its first cluster was cleared; of {} places whose content agrees "
                          "the one nearest to its folder is taken",
                          found.size()));
}

// A short name keeps three letters of an extension: of a .docx only .doc, whose content is another one.
void Placing::lengthen_extension(Deleted& file) const {
    const std::string extension = extension_of(file.name);
    if (!file.extension_is_cut || extension.size() != 3 ||
        begins_as_named(file, file.first_cluster) == Agreement::agrees)
        return;
    const std::string stem = file.name.substr(0, file.name.size() - 3);
    for (const std::string_view longer : kLongExtensions) {
        if (!longer.starts_with(extension)) continue;
        Deleted renamed;
        renamed.item.entry = file.item.entry;
        renamed.name = stem + std::string(longer);
        if (begins_as_named(renamed, file.first_cluster) != Agreement::agrees) continue;
        file.name = renamed.name;
        file.name_is_whole = false;
        file.head = Agreement::agrees;
        file.notes.emplace_back("the end of its extension is inferred from its content");
        return;
    }
}

void Placing::place(std::vector<Deleted>& files) {
    for (const Deleted& file : files) {
        if (file.item.entry.DIR_FstClusHI == 0 || !geometry_.holds(file.item.entry.first_cluster())) continue;
        high_halves_kept_ = true;
        known_starts_.insert(file.item.entry.first_cluster());
    }
    std::vector<std::size_t> order(files.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::erase_if(order, [&](std::size_t i) { return files[i].item.entry.is_folder(); });
    for (const std::size_t i : order) {
        find_start(files[i]);
        lengthen_extension(files[i]);
    }
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        const auto when_a = written(files[a].item.entry);
        const auto when_b = written(files[b].item.entry);
        return when_a != when_b ? when_a < when_b : files[a].first_cluster < files[b].first_cluster;
    });
    for (const std::size_t i : order) {
        Deleted& file = files[i];
        const std::uint64_t count = clusters_for(file.item.entry.DIR_FileSize);
        if (count == 0) {
            file.trust = LayoutTrust::exact;
            continue;
        }
        if (!geometry_.holds(file.first_cluster)) continue;
        const auto stale = table_.stale_chain(file.first_cluster, count);
        if (stale.size() == count) {
            for (const std::uint32_t cluster : stale) file.runs.push_back({cluster, 1});
            file.notes.emplace_back("its cluster chain still stands in the other FAT");
        } else {
            file.runs = most_likely_layout(file, count);
        }
        file.trust = count == 1 || stale.size() == count ? LayoutTrust::exact : LayoutTrust::assumed;
        layouts_.add_deleted_file(file.runs, standing_of(file));
    }
}

}  // namespace dredger::fat
