#include "media/area_map.h"

#include <bit>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

#include "base/checked.h"
#include "base/whole_file.h"

namespace dredger {
namespace {

using json = nlohmann::json;

constexpr const char* kAbout = "what a copy made by dredger holds of its medium";
constexpr std::size_t kMaxRuns = 100;  // the last ones are kept
constexpr std::uint8_t kMostTimes = 255;

tl::unexpected<Error> not_a_map(const std::filesystem::path& file, std::string why) {
    return fail(ErrorKind::not_understood, "this is no map of a copied medium: " + std::move(why), file.string(),
                "move it away; the image can be read without it");
}

std::uint32_t slowness(std::chrono::milliseconds took) {
    const auto ms = static_cast<std::uint64_t>(std::max<std::int64_t>(0, took.count()));
    return took < kPrompt ? 0 : static_cast<std::uint32_t>(std::bit_floor(std::min<std::uint64_t>(ms, 1U << 31)));
}

json run_as_json(const AreaMap::Run& run) {
    return {{"begun", run.begun}, {"asks", run.asks}, {"refused", run.refused}, {"slow", run.slow}, {"held", run.held}};
}

AreaMap::Run run_from_json(const json& from) {
    AreaMap::Run run;
    from.at("begun").get_to(run.begun);
    from.at("asks").get_to(run.asks);
    from.at("refused").get_to(run.refused);
    from.at("slow").get_to(run.slow);
    from.at("held").get_to(run.held);
    return run;
}

}  // namespace

AreaMap::AreaMap(std::uint64_t size) : size_(size) {
    if (size > 0) from_[0] = {};
}

std::uint64_t AreaMap::end_of(std::map<std::uint64_t, Asked>::const_iterator area) const {
    const auto next = std::next(area);
    return next == from_.end() ? size_ : next->first;
}

std::vector<AreaMap::Area> AreaMap::areas_in(const Extent& part) const {
    std::vector<Area> list;
    if (part.length == 0 || part.offset >= size_) return list;
    const std::uint64_t end = std::min(size_, checked_add(part.offset, part.length).value_or(size_));
    for (auto area = std::prev(from_.upper_bound(part.offset)); area != from_.end() && area->first < end; ++area) {
        const std::uint64_t from = std::max(area->first, part.offset);
        list.push_back({from, std::min(end_of(area), end) - from, area->second});
    }
    return list;
}

std::vector<Extent> AreaMap::areas_that_are(Asked::Outcome outcome) const {
    std::vector<Extent> list;
    for (const Area& area : areas())
        if (area.asked.outcome == outcome) append(list, {area.offset, area.length});
    return list;
}

std::vector<Extent> AreaMap::not_held_in(const Extent& part) const {
    std::vector<Extent> list;
    for (const Area& area : areas_in(part))
        if (!area.asked.is_held()) append(list, {area.offset, area.length});
    return list;
}

AreaTotals AreaMap::totals_in(const Extent& part) const {
    AreaTotals totals;
    bool was_refused = false;
    for (const auto& [offset, length, asked] : areas_in(part)) {
        totals.bytes[static_cast<std::size_t>(asked.outcome)] += length;
        const bool is_refused = asked.outcome == Asked::Outcome::refused;
        if (is_refused && !was_refused) ++totals.refused_areas;
        was_refused = is_refused;
        if (asked.is_held() && asked.slowest_ms > 0) totals.slow += length;
    }
    return totals;
}

AreaTotals AreaMap::totals_in(const std::vector<Extent>& parts) const {
    AreaTotals sum;
    for (const Extent& part : parts) {
        const AreaTotals here = totals_in(part);
        for (std::size_t n = 0; n < std::size(sum.bytes); ++n) sum.bytes[n] += here.bytes[n];
        sum.refused_areas += here.refused_areas;
        sum.slow += here.slow;
    }
    return sum;
}

bool AreaMap::waits(const Asked& asked, unsigned times) {
    const auto expected = times == 0 ? Asked::Outcome::unasked : Asked::Outcome::refused;
    return asked.outcome == expected && asked.times == times;
}

Extent AreaMap::next_refused(unsigned times, std::uint64_t from) const {
    if (from >= size_) return {};
    for (auto area = std::prev(from_.upper_bound(from)); area != from_.end(); ++area) {
        if (!waits(area->second, times)) continue;
        const std::uint64_t start = std::max(from, area->first);
        return {start, end_of(area) - start};
    }
    return {};
}

Extent AreaMap::previous_refused(unsigned times, std::uint64_t to) const {
    auto area = from_.lower_bound(to);
    std::uint64_t end = std::min(to, size_);
    while (area != from_.begin()) {
        --area;
        if (waits(area->second, times)) return {area->first, end - area->first};
        end = area->first;
    }
    return {};
}

void AreaMap::answer(const Extent& asked, bool came, std::chrono::milliseconds took) {
    for (auto& [offset, length, known] : areas_in(asked)) {
        known.outcome = came ? Asked::Outcome::held : Asked::Outcome::refused;
        if (known.times < kMostTimes) ++known.times;
        known.slowest_ms = std::max(known.slowest_ms, slowness(took));
        set(offset, length, known);
    }
}

void AreaMap::set(std::uint64_t offset, std::uint64_t length, const Asked& asked) {
    if (length == 0 || offset >= size_) return;
    const std::uint64_t end = std::min(size_, checked_add(offset, length).value_or(size_));
    if (end < size_ && !from_.contains(end)) from_[end] = std::prev(from_.upper_bound(end))->second;
    from_.erase(from_.lower_bound(offset), from_.lower_bound(end));
    from_[offset] = asked;
    if (const auto here = from_.find(offset); here != from_.begin() && std::prev(here)->second == asked)
        from_.erase(here);
    if (const auto behind = from_.find(end); behind != from_.end() && behind->second == asked) from_.erase(behind);
}

std::filesystem::path AreaMap::beside(const std::filesystem::path& image) { return image.string() + ".areas.json"; }

Result<AreaMap> AreaMap::read(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    if (!in) return fail(ErrorKind::unreadable, "the map can't be read", file.string());
    const auto from = json::parse(in, nullptr, false);
    if (!from.is_object() || !from.contains("about") || from["about"] != kAbout)
        return not_a_map(file, "it is not written as one of this version");
    try {
        AreaMap map(from.at("size").get<std::uint64_t>());
        std::uint64_t reached = 0;
        for (const auto& area : from.at("areas")) {
            const auto offset = area.at(0).get<std::uint64_t>(), length = area.at(1).get<std::uint64_t>();
            const auto word = area.at(2).get<std::string>();
            const auto* const known = std::find(std::begin(kAskedWords), std::end(kAskedWords), word);
            const auto times = area.at(3).get<std::uint64_t>(), slowest = area.at(4).get<std::uint64_t>();
            if (known == std::end(kAskedWords) || offset < reached || !lies_within(offset, length, map.size_) ||
                times > kMostTimes || slowest > (1U << 31))
                return not_a_map(file, "its areas contradict each other");
            const auto outcome = static_cast<Asked::Outcome>(known - std::begin(kAskedWords));
            if ((outcome == Asked::Outcome::unasked) != (times == 0) && outcome != Asked::Outcome::absent)
                return not_a_map(file, "its areas contradict each other");
            map.set(offset, length, {outcome, static_cast<std::uint8_t>(times), static_cast<std::uint32_t>(slowest)});
            reached = offset + length;
        }
        if (from.contains("source"))
            for (const auto& [name, value] : from.at("source").items()) map.facts[name] = value.get<std::string>();
        if (from.contains("runs"))
            for (const auto& run : from.at("runs")) map.runs.push_back(run_from_json(run));
        return map;
    } catch (const json::exception&) {
        return not_a_map(file, "a part of it is missing or damaged");
    }
}

Result<void> AreaMap::write(const std::filesystem::path& file) const {
    const auto line = [](const json& what) { return what.dump(-1, ' ', false, json::error_handler_t::replace); };
    std::string text = fmt::format("{{\n \"about\": \"{}\",\n \"source\": {},\n \"size\": {},\n \"runs\": [", kAbout,
                                   line(json(facts)), size_);
    const char* between = "\n";
    for (std::size_t n = runs.size() - std::min(runs.size(), kMaxRuns); n < runs.size(); ++n) {
        text += between + ("  " + line(run_as_json(runs[n])));
        between = ",\n";
    }
    text += "\n ],\n \"areas\": [";
    between = "\n";
    for (const Area& area : areas()) {
        text += fmt::format("{}  [{}, {}, \"{}\", {}, {}]", between, area.offset, area.length,
                            word_for(area.asked.outcome), area.asked.times, area.asked.slowest_ms);
        between = ",\n";
    }
    text += "\n ]\n}\n";
    return write_whole_file(file, text);
}

}  // namespace dredger
