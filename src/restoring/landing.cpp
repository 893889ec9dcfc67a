#include "restoring/landing.h"

#include <algorithm>
#include <fmt/format.h>
#include <fstream>
#include <sys/stat.h>

#include "base/beneath.h"
#include "base/text.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

std::string arranged_folder(const NameFacts& facts, Arrangement arrangement) {
    const Candidate& c = *facts.candidate;
    switch (arrangement) {
        case Arrangement::tree: return c.record.folder;
        case Arrangement::kind:
            return joined(word_for(c.kind), c.format.empty() ? std::string_view("unknown format") : c.format);
        case Arrangement::date: {
            std::optional<FileTime> time = facts.said != nullptr ? facts.said->date : std::nullopt;
            if (!time) time = c.record.modified;
            if (!time) time = c.record.created;
            if (!time) return "undated";
            const std::string day = iso8601(in_local_digits(*time));
            return joined(day.substr(0, 4), day.substr(5, 2));
        }
        case Arrangement::flat: break;
    }
    return {};
}

// What a word of the manifest means; nothing where it is none of these.
template <class Word, std::size_t N>
std::optional<Word> meaning_of(std::string_view word, const std::string_view (&words)[N]) {
    const auto* const found = std::find(std::begin(words), std::end(words), word);
    return found == std::end(words) ? std::nullopt : std::optional(static_cast<Word>(found - std::begin(words)));
}

// What a power cut leaves of a file that had its name already: its bytes as far as they arrived, and zeros or nothing
// for the others. So nothing is lost with it.
bool is_remnant(const fs::path& there, const fs::path& whole) {
    constexpr std::size_t kAtOnce = 64 << 10, kUnit = 512;
    std::error_code failed;
    if (!fs::is_regular_file(fs::symlink_status(there, failed))) return false;
    const std::uint64_t size = fs::file_size(there, failed), all = fs::file_size(whole, failed);
    if (failed || size > all) return false;
    std::ifstream remnant(there, std::ios::binary), right(whole, std::ios::binary);
    std::string had(kAtOnce, '\0'), wanted(kAtOnce, '\0');
    for (std::uint64_t left = size; left > 0;) {
        const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(left, kAtOnce));
        remnant.read(had.data(), static_cast<std::streamsize>(length));
        right.read(wanted.data(), static_cast<std::streamsize>(length));
        if (!remnant || !right) return false;
        for (std::size_t at = 0; at < length; at += kUnit) {
            const auto unit = std::string_view(had).substr(at, std::min(kUnit, length - at));
            if (unit != std::string_view(wanted).substr(at, unit.size()) && unit.find_first_not_of('\0') != unit.npos)
                return false;
        }
        left -= length;
    }
    return true;
}

}  // namespace

Standing standing_of(Outcome outcome, Check check, int prospect, std::uint64_t bytes) {
    constexpr int kOutcomeRanks[] = {3, 2, 1, 0, 0, 0};  // whole, doubtful, partial; the others leave no file
    constexpr int kCheckRanks[] = {4, 3, 1, 2};          // verified, plausible, damaged, unknown
    return {kOutcomeRanks[static_cast<std::size_t>(outcome)], kCheckRanks[static_cast<std::size_t>(check)], prospect,
            bytes};
}

Landing::Landing(fs::path folder, NameRules rules, IfExists if_exists, const Manifest* manifest, bool was_cut_off)
    : folder_(std::move(folder)), rules_(rules), if_exists_(if_exists), was_cut_off_(was_cut_off) {
    if (manifest == nullptr) return;
    for (const auto& [key, row] : manifest->rows()) {
        std::error_code failed;
        // A run that was killed may have left the row without its file.
        if (row.restored_path.empty() || row.sum().empty() ||
            !fs::exists(fs::symlink_status(folder_ / row.restored_path, failed)))
            continue;
        const Standing standing = standing_of(meaning_of<Outcome>(row.outcome, kOutcomeWords).value_or(Outcome::failed),
                                              meaning_of<Check>(row.check, kCheckWords).value_or(Check::damaged),
                                              row.prospect, row.restored_bytes);
        Taken taken{row.catalog, row.id, parse_iso8601(row.modified), row.sum(), standing, false};
        taken_[path_key(row.restored_path, rules_)] = std::move(taken);
    }
}

fs::path Landing::wanted(const NameFacts& facts, Arrangement arrangement, const Pattern* pattern,
                         const NameRules& rules) {
    const std::string name = pattern != nullptr ? pattern->path_for(facts) : facts.candidate->record.name;
    const std::string folder = arranged_folder(facts, arrangement);
    // A file's own name may hold what separates folders elsewhere; a pattern's "/" is meant.
    const fs::path last = pattern != nullptr ? mapped_path(name, rules) : fs::path(mapped_part(name, rules));
    return folder.empty() ? last : mapped_path(folder, rules) / last;
}

bool Landing::is_taken(const fs::path& place) const {
    std::error_code failed;
    if (taken_.contains(path_key(place, rules_))) return true;
    // In a folder that was made for it there is nothing else.
    const auto made = made_.find(place.parent_path().native());
    const bool is_ours = made != made_.end() && made->second;
    return !is_ours && fs::exists(fs::symlink_status(folder_ / place, failed));
}

bool Landing::is_file(const fs::path& place) const {
    if (taken_.contains(path_key(place, rules_))) return true;
    std::error_code failed;
    // What is a link leads elsewhere, also where it leads to a folder.
    const fs::file_status there = fs::symlink_status(folder_ / place, failed);
    return fs::exists(there) && !fs::is_directory(there);
}

fs::path Landing::numbered(const fs::path& wanted) const {
    for (unsigned n = 2;; ++n) {
        fs::path place = wanted.parent_path() / numbered_name(wanted.filename().string(), n);
        if (!is_taken(place)) return place;
    }
}

std::error_code Landing::make_folder(const fs::path& place) {
    std::error_code failed;
    if (made_.contains(place.native())) return failed;
    const bool is_new = !fs::exists(fs::symlink_status(folder_ / place, failed));
    failed = make_folder_beneath({folder_, place});
    if (!failed) made_[place.native()] = is_new;
    return failed;
}

fs::path Landing::folder_for(const fs::path& wanted) {
    if (wanted.empty()) return wanted;
    if (const auto known = folders_.find(wanted); known != folders_.end()) return known->second;
    const fs::path free = folder_for(wanted.parent_path()) / wanted.filename();
    fs::path place = free;
    for (unsigned n = 2; is_file(place); ++n) place = fmt::format("{} ({})", free.string(), n);
    return folders_[wanted] = place;
}

Landed Landing::take(Landed::How how, const fs::path& place, const Arrival& arrival) {
    Landed landed{how, place, {}, std::nullopt};
    Taken& taken = taken_[path_key(place, rules_)];
    if (how == Landed::How::replacing && taken.id != 0) landed.loser = {taken.catalog, taken.id};
    taken = {arrival.catalog, arrival.id, arrival.modified, arrival.sum, arrival.standing, true};
    return landed;
}

std::string Landing::refusal(const fs::path& wanted) const {
    return if_exists_ == IfExists::skip && !was_cut_off_ && is_taken(wanted) ? "a file of that name is there" : "";
}

Landed Landing::settle(Arrival arrival) {
    using How = Landed::How;
    arrival.wanted = folder_for(arrival.wanted.parent_path()) / arrival.wanted.filename();
    const fs::path& wanted = arrival.wanted;
    std::error_code failed;
    if (!is_taken(wanted)) return take(How::free, wanted, arrival);
    if (fs::is_directory(folder_ / wanted, failed)) return take(How::numbered, numbered(wanted), arrival);
    const auto found = taken_.find(path_key(wanted, rules_));
    const Taken* known = found == taken_.end() ? nullptr : &found->second;
    // What an earlier run left of this very file.
    if (known != nullptr && known->catalog == arrival.catalog && known->id == arrival.id && !known->of_this_run) {
        Landed landed = take(How::replacing, wanted, arrival);
        landed.loser.reset();
        return landed;
    }
    if (known == nullptr && was_cut_off_ && is_remnant(folder_ / wanted, arrival.staged))
        return take(How::replacing, wanted, arrival);
    switch (if_exists_) {
        case IfExists::skip: return {How::refused, wanted, "a file of that name is there", std::nullopt};
        case IfExists::newer: return settle_newer(arrival, known);
        case IfExists::best: return settle_best(arrival, known);
        case IfExists::replace:
            if (known == nullptr || !known->of_this_run) return take(How::replacing, wanted, arrival);
            break;
        case IfExists::number: break;
    }
    return take(How::numbered, numbered(wanted), arrival);
}

Landed Landing::settle_newer(const Arrival& arrival, const Taken* known) {
    std::optional<FileTime> there = known != nullptr ? known->modified : std::nullopt;
    struct stat facts {};
    if (!there && ::stat((folder_ / arrival.wanted).c_str(), &facts) == 0)
        there = FileTime{facts.st_mtim.tv_sec, static_cast<std::uint32_t>(facts.st_mtim.tv_nsec), {}};
    if (arrival.modified && there && *there < *arrival.modified)
        return take(Landed::How::replacing, arrival.wanted, arrival);
    return {Landed::How::refused, arrival.wanted, "a newer file of that name is there, or one as new", std::nullopt};
}

Landed Landing::settle_best(const Arrival& arrival, const Taken* known) {
    // How good a file is that something else put there nobody can say: it stays.
    if (known == nullptr) return take(Landed::How::numbered, numbered(arrival.wanted), arrival);
    if (known->sum == arrival.sum && known->standing >= arrival.standing)
        return {Landed::How::refused, arrival.wanted, "the same content is there already", std::nullopt};
    if (known->standing >= arrival.standing)
        return {Landed::How::refused, arrival.wanted, "a file of that name that came back better is there",
                std::nullopt};
    return take(Landed::How::replacing, arrival.wanted, arrival);
}

}  // namespace dredger
