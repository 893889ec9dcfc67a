#include "cli/surveyed.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>

#include "base/text.h"
#include "bins/contents.h"
#include "cli/words.h"
#include "media/drives.h"
#include "scanning/mail_stores.h"
#include "scanning/volumes_of.h"
#include "volumes/containers.h"
#include "volumes/mapping.h"
#include "volumes/shadow.h"

namespace dredger::cli {
namespace {

// "Volume 1 keeps 2 snapshots: ..."; empty where it keeps none.
std::string snapshots_text(const Volume& volume, const FileSystem& filesystem) {
    constexpr std::size_t kShown = 5;
    std::vector<std::string> shown;
    std::size_t count = 0;
    for (const FileRoot& root : filesystem.roots()) {
        if (!root.is_snapshot || ++count > kShown) continue;
        shown.push_back(printable(root.label) + (root.made ? fmt::format(" ({})", time_text(*root.made)) : ""));
    }
    if (count == 0) return {};
    if (count > kShown) shown.push_back(fmt::format("{} more", count - kShown));
    return fmt::format("Volume {} keeps {}: {}", volume.number, counted(count, "snapshot"), fmt::join(shown, ", "));
}

std::string shadows_text(const Volume& volume, const ShadowCopies& shadows) {
    if (shadows.copies.empty()) return {};
    std::vector<std::string> times;
    for (const ShadowCopy& copy : shadows.copies) times.push_back(time_text(copy.made));
    return fmt::format("Volume {} keeps {} of itself: {}", volume.number,
                       counted(times.size(), "shadow copy", "shadow copies"), fmt::join(times, ", "));
}

std::string_view words_of(TableKind table) {
    switch (table) {
        case TableKind::gpt: return "GPT partition table";
        case TableKind::apm: return "Apple partition map";
        case TableKind::mbr: return "MBR partition table";
        default: return "no partition table";
    }
}

// File systems that keep where the content of a deleted file lies; of the others only its beginning is known, or
// nothing.
bool records_tell_all(std::string_view filesystem) {
    constexpr std::array<std::string_view, 4> kThese = {"NTFS", "Btrfs", "APFS", "F2FS"};
    return std::any_of(kThese.begin(), kThese.end(), [&](std::string_view one) { return filesystem.starts_with(one); });
}

class Look {
  public:
    Look(const OpenedMedium& opened, std::string source, Observer& observer)
        : opened_(opened), observer_(observer), word_(as_word(source)) {
        surveyed_.source = std::move(source);
    }

    Result<std::optional<Surveyed>> run() {
        surveyed_.form = opened_.form;
        surveyed_.size = opened_.medium->size();
        surveyed_.warnings = opened_.remarks;
        DREDGER_TRY(const auto store, store_on(opened_, opened_.medium));
        if (store) return of_store(*store);
        DREDGER_TRY(auto found, VolumesOfMedium::find(opened_.medium, observer_));
        if (!found) return std::optional<Surveyed>();
        const PartitionMap& map = found->map();
        surveyed_.table = words_of(map.table);
        surveyed_.warnings.insert(surveyed_.warnings.end(), map.warnings.begin(), map.warnings.end());
        surveyed_.snapshots = opened_.snapshots;
        catalog_ = as_word(std::filesystem::path(surveyed_.source).filename().stem().string() + ".dredge");
        for (const Volume& volume : map.volumes) take(volume, *found);
        if (opened_.is_device) surveyed_.health = ask_for_health(surveyed_.source);
        if (surveyed_.health.verdict == DriveHealth::Verdict::failing)
            find("The drive is failing: copy it before anything else",
                 fmt::format("dredger image {} --to COPY.img", word_));
        surveyed_.next = scan(needs_content_ ? "--deep " : "");
        return std::optional(std::move(surveyed_));
    }

  private:
    std::optional<Surveyed> of_store(const MailStore& store) {
        const VolumeFacts& facts = store.facts();
        SurveyedVolume row;
        row.number = 1;
        row.length = surveyed_.size;
        row.filesystem = facts.filesystem;
        row.label = facts.label;
        row.is_readable = surveyed_.is_readable = true;
        surveyed_.volumes.push_back(std::move(row));
        surveyed_.table = "a mail store";
        surveyed_.warnings.insert(surveyed_.warnings.end(), facts.warnings.begin(), facts.warnings.end());
        catalog_ = as_word(std::filesystem::path(surveyed_.source).filename().stem().string() + ".dredge");
        surveyed_.next = scan("");
        return std::move(surveyed_);
    }

    std::string scan(const std::string& how, const std::string& which = "") const {
        return fmt::format("dredger scan {}{} -c {}{}", how, word_, catalog_, which);
    }

    void find(std::string sentence, std::string next = {}) {
        if (!sentence.empty()) surveyed_.findings.push_back({std::move(sentence), std::move(next)});
    }

    void take(const Volume& volume, VolumesOfMedium& found) {
        const MediumPtr window = open_volume(opened_.medium, volume);
        SurveyedVolume& row = surveyed_.volumes.emplace_back();
        row.number = volume.number;
        row.offset = volume.offset;
        row.length = volume.length;
        row.is_lost = volume.table == TableKind::lost;
        row.table_says = row.is_lost           ? "nothing: lost"
                         : volume.name.empty() ? volume.type
                                               : fmt::format("{}, {}", volume.type, volume.name);
        const std::string only_it = fmt::format(" --volume {}", volume.number);
        if (row.is_lost)
            find(fmt::format("Volume {} is lost: no table tells of it; {}", volume.number, volume.evidence),
                 scan("", only_it));
        // What a container holds is seen through it.
        const auto opened =
            volume.is_container() ? Result<std::shared_ptr<const FileSystem>>(nullptr) : found.filesystem(volume);
        if (!opened) {
            surveyed_.warnings.push_back(fmt::format("volume {}: {}", volume.number, opened.error().line()));
        } else if (*opened) {
            look_into(volume, window, **opened, row);
            return;
        }
        if (!volume.holds.empty()) {
            surveyed_.is_recognised = true;
            row.filesystem = volume.holds;
            return;
        }
        const Recognised other =
            opened_.is_raw() ? recognise(surveyed_.source, volume.offset, volume.length) : Recognised();
        surveyed_.is_recognised = surveyed_.is_recognised || !other.filesystem.empty();
        row.filesystem = row.is_lost ? volume.type : other.filesystem;
        row.label = row.is_lost ? volume.name : other.label;
    }

    void look_into(const Volume& volume, const MediumPtr& window, const FileSystem& filesystem, SurveyedVolume& row) {
        const VolumeFacts& facts = filesystem.facts();
        surveyed_.is_readable = row.is_readable = true;
        row.filesystem = facts.filesystem;
        row.label = facts.label;
        row.used = facts.used;
        row.cluster_size = facts.cluster_size;
        const std::string only_it = fmt::format(" --volume {}", volume.number);
        const std::size_t lost_at = surveyed_.findings.size() - (row.is_lost ? 1 : 0);
        for (const auto& former : former_filesystems(window, filesystem)) {
            row.formerly.push_back(former->facts().filesystem);
            find(fmt::format("Volume {} was formatted: folders or records of a former {} still stand", volume.number,
                             row.formerly.back()),
                 scan("--deep ", only_it));
        }
        if (const BinContents contents = look_into_bins(window, filesystem); !contents.empty())
            surveyed_.findings.push_back(
                {fmt::format("In the bin of volume {}: {}", volume.number, bin_text(contents)),
                 scan("", only_it) + fmt::format(" && dredger list {} --state trashed", catalog_), true});
        const std::string versions = scan("", only_it) + fmt::format(" && dredger versions {}", catalog_);
        find(snapshots_text(volume, filesystem), versions);
        const ShadowCopies shadows = find_shadow_copies(*window);
        find(shadows_text(volume, shadows), versions);
        if (!records_tell_all(facts.filesystem)) {
            needs_content_ = true;
            // Of a lost one it is said already that it is to be scanned.
            if (row.is_lost)
                surveyed_.findings[lost_at].next = scan("--deep ", only_it);
            else
                find(fmt::format(
                         "Volume {} is {}, whose records don't tell all of what was deleted: search its content, too",
                         volume.number, facts.filesystem),
                     scan("--deep ", only_it));
        }
        for (const auto* warnings : {&shadows.warnings, &facts.warnings})
            for (const std::string& warning : *warnings)
                surveyed_.warnings.push_back(fmt::format("volume {}: {}", volume.number, warning));
    }

    const OpenedMedium& opened_;
    Observer& observer_;
    std::string word_;     // the source, to paste
    std::string catalog_;  // its catalog, to paste
    bool needs_content_ = false;
    Surveyed surveyed_;
};

}  // namespace

Result<std::optional<Surveyed>> look_at(const OpenedMedium& opened, const std::string& source, Observer& observer) {
    return Look(opened, source, observer).run();
}

}  // namespace dredger::cli
