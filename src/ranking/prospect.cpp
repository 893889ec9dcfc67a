#include "ranking/prospect.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "ranking/bands.h"
#include "ranking/weights.h"

namespace dredger {
namespace {

std::string amount(std::uint64_t part, std::uint64_t whole) {
    const double share = 100.0 * static_cast<double>(part) / static_cast<double>(whole);
    return part == whole ? "all of it"
           : share < 1   ? "less than 1 % of it"
                         : fmt::format("{:.0f} % of it", std::floor(share));
}

std::string names(const std::vector<Holder>& holders, const Namer& name_of, const char* unnamed) {
    constexpr std::size_t kShown = 3;
    std::vector<std::string> shown;
    std::size_t others = 0;
    for (const Holder& holder : holders) {
        std::string name = holder.candidate != 0 && shown.size() < kShown ? name_of(holder.candidate) : "";
        if (name.empty())
            ++others;
        else
            shown.push_back(std::move(name));
    }
    std::string text = fmt::format("{}", fmt::join(shown, ", "));
    if (shown.empty()) return unnamed;
    if (others > 0) text += fmt::format(" and {} more", others);
    return text;
}

void judge_head_and_tail(const Evidence& e, double& hope, Prospect& prospect) {
    auto& reasons = prospect.reasons;
    switch (e.head) {
        case Agreement::agrees:
            prospect.check = Check::plausible;
            reasons.emplace_back("its first bytes are those of the format that its name tells");
            break;
        case Agreement::fits:
            prospect.check = Check::plausible;
            hope *= kRecordWeights.head_fits;
            reasons.emplace_back("it begins with text, as its name says");
            break;
        case Agreement::disagrees:
            prospect.check = Check::damaged;
            hope *= kRecordWeights.head_disagrees;
            reasons.push_back(
                e.found_format != nullptr
                    ? fmt::format("its first bytes are those of another format ({}): it is overwritten",
                                  e.found_format->name)
                    : "its first bytes are not those of the format that its name tells: it is overwritten");
            break;
        case Agreement::blank:
            prospect.check = Check::damaged;
            hope *= kRecordWeights.head_blank;
            reasons.emplace_back("it begins with one repeated byte: wiped, trimmed or never written");
            break;
        case Agreement::unknown:
            hope *= kRecordWeights.head_unknown;
            reasons.emplace_back("its name does not tell how its content should begin, so that is not checked");
            break;
    }
    if (e.tail == Tail::foreign) {
        hope *= kRecordWeights.tail_foreign;
        reasons.emplace_back(
            "its last sector is not padded as files on this volume are: its end is probably overwritten");
    }
}

void judge_layout(const Evidence& e, double& hope, std::vector<std::string>& reasons) {
    if (e.laid < e.size)
        reasons.push_back(fmt::format("the place of {} is not known", amount(e.size - e.laid, e.size)));
    if (e.trust == LayoutTrust::damaged) {
        hope *= kRecordWeights.record_damaged;
        reasons.emplace_back("the record that tells where it lies is damaged");
    } else if (e.within_records) {
        reasons.emplace_back("its content stands in its record, which is whole");
    } else if (e.trust == LayoutTrust::exact) {
        reasons.emplace_back("the file system still tells where all of it lies");
    } else if (e.fragments <= 1) {
        hope *= kRecordWeights.layout_assumed;
        reasons.emplace_back("only where it starts is known; the rest is assumed to follow in one piece");
    } else {
        const bool fits = e.tail == Tail::padded && e.head != Agreement::disagrees;
        hope *= fits ? kRecordWeights.pieces_with_tail : kRecordWeights.layout_in_pieces;
        reasons.push_back(
            fmt::format("only where it starts is known; the rest is assumed in {} pieces around what was there "
                        "when it was written",
                        e.fragments));
    }
}

// Without the owner's key what comes back is of no use, however whole it is.
void dampen_encrypted(Prospect& prospect) {
    prospect.value = static_cast<int>(prospect.value * kRecordWeights.encrypted);
    prospect.band = prospect.value >= kFaintFrom ? Band::faint : Band::gone;
    prospect.check = Check::unknown;
    prospect.reasons.emplace_back(
        "it is encrypted: its bytes come back, but only the key of the owner's account makes them readable");
}

}  // namespace

Prospect judge(const Evidence& e, const Namer& name_of) {
    Prospect prospect;
    auto& reasons = prospect.reasons;
    reasons = e.notes;
    if (e.is_folder || (e.size == 0 && e.trust != LayoutTrust::none)) {
        prospect.value = 100;
        prospect.band = Band::sound;
        if (!e.is_folder) reasons.emplace_back("the file is empty");
        return prospect;
    }
    const auto size = static_cast<double>(e.size);
    if (e.is_live && e.size > 0) {
        if (e.is_trashed) reasons.emplace_back("it still lies in the bin: nothing has taken its place");
        if (e.laid < e.size)
            reasons.push_back(fmt::format("{} can't be had: its place is not known, or behind the end of the volume",
                                          amount(e.size - e.laid, e.size)));
        prospect.value = static_cast<int>(100.0 * static_cast<double>(std::min(e.laid, e.size)) / size);
        prospect.band = e.laid >= e.size ? Band::sound : prospect.value >= kFaintFrom ? Band::patchy : Band::gone;
        if (e.trust == LayoutTrust::damaged && prospect.band == Band::sound) {
            prospect.value = static_cast<int>(prospect.value * kRecordWeights.record_damaged);
            prospect.band = Band::patchy;
        }
        if (e.encrypted) dampen_encrypted(prospect);
        return prospect;
    }
    if (e.laid == 0) {
        // That nothing is left is not known, either: what it held may stand without it.
        prospect.value = static_cast<int>(kFaintFrom);
        prospect.band = Band::faint;
        reasons.emplace_back("nothing tells where its content lies: a deep scan may find it without its name");
        return prospect;
    }

    if (e.held_by_live > 0)
        reasons.push_back(fmt::format("{} is overwritten by {}", amount(e.held_by_live, e.size),
                                      names(e.live_holders, name_of, "files that are there now")));
    if (e.taken_by_unknown > 0)
        reasons.push_back(fmt::format("{} lies where something else is kept now (a folder, mostly)",
                                      amount(e.taken_by_unknown, e.size)));
    if (e.behind_ends > 0)
        reasons.push_back(
            fmt::format("{} lies in the last clusters of other files, behind their ends: it may still stand",
                        amount(e.behind_ends, e.size)));
    if (e.claimed_by_newer > 0)
        reasons.push_back(fmt::format("{} was later used by {}, deleted since", amount(e.claimed_by_newer, e.size),
                                      names(e.newer_claimants, name_of, "other files")));
    if (e.unreadable > 0) reasons.push_back(fmt::format("{} bytes of its start can't be read", e.unreadable));

    const std::uint64_t lost =
        std::min(e.size, e.held_by_live + e.taken_by_unknown + (e.size - std::min(e.laid, e.size)));
    const double left =
        size - static_cast<double>(lost) -
        (1 - kRecordWeights.newer_claim) * static_cast<double>(std::min(e.claimed_by_newer, e.size - lost)) -
        (1 - kRecordWeights.behind_end) * static_cast<double>(std::min(e.behind_ends, e.size - lost));
    double hope = 100.0 * left / size;
    // A start that is known to be another file's says nothing of the rest.
    const bool start_is_lost = e.head == Agreement::disagrees && lost > 0 && !e.within_records;
    if (start_is_lost) {
        prospect.check = Check::damaged;
        reasons.emplace_back("its first bytes are no longer its own");
    } else {
        if (!e.encrypted && !e.within_records) judge_head_and_tail(e, hope, prospect);
    }
    judge_layout(e, hope, reasons);

    prospect.value = static_cast<int>(std::floor(std::clamp(hope, 0.0, 100.0)));
    const bool doubted = lost > 0 || e.behind_ends > 0 || e.claimed_by_newer > 0 || e.unreadable > 0 ||
                         e.tail == Tail::foreign || e.trust == LayoutTrust::damaged ||
                         (!e.within_records && (e.head == Agreement::disagrees || e.head == Agreement::blank));
    prospect.band = band_for(hope);
    if (prospect.band == Band::sound && doubted) prospect.band = Band::patchy;
    if (e.encrypted) dampen_encrypted(prospect);
    return prospect;
}

}  // namespace dredger
