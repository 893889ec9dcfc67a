#include "media/area_map.h"

#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

#include "base/checked.h"
#include "base/whole_file.h"

namespace dredger {
namespace {

constexpr int kVersion = 1;

tl::unexpected<Error> not_a_map(const std::filesystem::path& file, std::string why) {
    return fail(ErrorKind::not_understood, "this is no map of a copied medium: " + std::move(why), file.string(),
                "move it away; the image can be read without it");
}

}  // namespace

AreaMap::AreaMap(std::uint64_t size) : size_(size) {
    if (size > 0) from_[0] = AreaState::untried;
}

std::vector<AreaMap::Area> AreaMap::areas() const {
    std::vector<Area> list;
    for (auto area = from_.begin(); area != from_.end(); ++area) {
        const auto next = std::next(area);
        list.push_back({area->first, (next == from_.end() ? size_ : next->first) - area->first, area->second});
    }
    return list;
}

std::vector<Extent> AreaMap::areas_in(AreaState state) const {
    std::vector<Extent> list;
    for (const Area& area : areas())
        if (area.state == state) list.push_back({area.offset, area.length});
    return list;
}

std::vector<Extent> AreaMap::not_done() const {
    std::vector<Extent> list;
    for (const Area& area : areas()) {
        if (area.state == AreaState::done) continue;
        if (!list.empty() && list.back().end() == area.offset)
            list.back().length += area.length;
        else
            list.push_back({area.offset, area.length});
    }
    return list;
}

AreaTotals AreaMap::totals() const {
    AreaTotals totals;
    bool was_bad = false;
    for (const Area& area : areas()) {
        totals.bytes[static_cast<std::size_t>(area.state)] += area.length;
        const bool is_bad = area.state != AreaState::done && area.state != AreaState::untried;
        if (is_bad && !was_bad) ++totals.bad_areas;
        was_bad = is_bad;
    }
    return totals;
}

Extent AreaMap::next(AreaState state, std::uint64_t from) const {
    if (from >= size_) return {};
    auto area = std::prev(from_.upper_bound(from));
    for (; area != from_.end(); ++area) {
        if (area->second != state) continue;
        const auto following = std::next(area);
        const std::uint64_t start = std::max(from, area->first);
        return {start, (following == from_.end() ? size_ : following->first) - start};
    }
    return {};
}

Extent AreaMap::previous(AreaState state, std::uint64_t to) const {
    auto area = from_.lower_bound(to);
    std::uint64_t end = std::min(to, size_);
    while (area != from_.begin()) {
        --area;
        if (area->second == state) return {area->first, end - area->first};
        end = area->first;
    }
    return {};
}

void AreaMap::set(std::uint64_t offset, std::uint64_t length, AreaState state) {
    if (length == 0 || offset >= size_) return;
    const std::uint64_t end = std::min(size_, checked_add(offset, length).value_or(size_));
    if (end < size_ && !from_.contains(end)) from_[end] = std::prev(from_.upper_bound(end))->second;
    from_.erase(from_.lower_bound(offset), from_.lower_bound(end));
    from_[offset] = state;
    if (const auto here = from_.find(offset); here != from_.begin() && std::prev(here)->second == state)
        from_.erase(here);
    if (const auto behind = from_.find(end); behind != from_.end() && behind->second == state) from_.erase(behind);
}

std::filesystem::path AreaMap::beside(const std::filesystem::path& image) { return image.string() + ".areas.json"; }

Result<AreaMap> AreaMap::read(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    if (!in) return fail(ErrorKind::unreadable, "the map can't be read", file.string());
    const auto json = nlohmann::json::parse(in, nullptr, false);
    if (!json.is_object() || json.value("about", "") != "areas of a medium copied by dredger")
        return not_a_map(file, "it is not written as one");
    if (json.value("version", 0) != kVersion) return not_a_map(file, "its version is not known");
    try {
        AreaMap map(json.at("size").get<std::uint64_t>());
        std::uint64_t reached = 0;
        for (const auto& area : json.at("areas")) {
            const auto offset = area.at(0).get<std::uint64_t>(), length = area.at(1).get<std::uint64_t>();
            const auto word = area.at(2).get<std::string>();
            const auto* const state = std::find(std::begin(kAreaStateWords), std::end(kAreaStateWords), word);
            if (state == std::end(kAreaStateWords) || offset < reached || !lies_within(offset, length, map.size_))
                return not_a_map(file, "its areas contradict each other");
            map.set(offset, length, static_cast<AreaState>(state - std::begin(kAreaStateWords)));
            reached = offset + length;
        }
        if (json.contains("source"))
            for (const auto& [name, value] : json.at("source").items()) map.facts[name] = value.get<std::string>();
        return map;
    } catch (const nlohmann::json::exception&) {
        return not_a_map(file, "a part of it is missing or damaged");
    }
}

Result<void> AreaMap::write(const std::filesystem::path& file) const {
    std::string text =
        fmt::format("{{\n \"about\": \"areas of a medium copied by dredger\",\n \"version\": {},\n", kVersion);
    text +=
        " \"source\": " + nlohmann::json(facts).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace) + ",\n";
    text += fmt::format(" \"size\": {},\n \"areas\": [", size_);
    const char* between = "\n";
    for (const Area& area : areas()) {
        text += fmt::format("{}  [{}, {}, \"{}\"]", between, area.offset, area.length, word_for(area.state));
        between = ",\n";
    }
    text += "\n ]\n}\n";
    return write_whole_file(file, text);
}

}  // namespace dredger
