#include "cli/json.h"

#include <fmt/format.h>

#include "ranking/prospect.h"

namespace dredger::cli {

Json time_or_null(const std::optional<FileTime>& time) { return time ? Json(iso8601(*time)) : Json(nullptr); }

Json json_of(const Candidate& c, const std::string& catalog, unsigned volume) {
    const FileEntry& record = c.record;
    Json zoneless = Json::array();
    for (const auto& [name, time] : {std::pair("created", &record.created), std::pair("modified", &record.modified),
                                     std::pair("accessed", &record.accessed), std::pair("deleted", &record.deleted)})
        if (*time && (*time)->clock == FileTime::Clock::local) zoneless.push_back(name);
    return {{"catalog", catalog},
            {"id", c.id},
            {"state", word_for(record.state)},
            {"origin", word_for(record.origin)},
            {"name", record.name},
            {"path", record.path()},
            {"folder", record.is_folder},
            {"size", record.size},
            {"kind", word_for(c.kind)},
            {"format", c.format.empty() ? Json(nullptr) : Json(c.format)},
            {"role", c.copy.role == Role::none ? Json(nullptr) : Json(word_for(c.copy.role))},
            {"of", c.copy.of.empty() ? Json(nullptr) : Json(c.copy.of)},
            {"as_of", time_or_null(c.copy.as_of)},
            {"created", time_or_null(record.created)},
            {"modified", time_or_null(record.modified)},
            {"accessed", time_or_null(record.accessed)},
            {"deleted", time_or_null(record.deleted)},
            {"zoneless", std::move(zoneless)},
            {"prospect", c.prospect.value},
            {"band", word_for(c.prospect.band)},
            {"check", word_for(c.prospect.check)},
            {"reasons", c.prospect.reasons},
            {"volume", volume}};
}

Json json_of(const MediumLayout& layout) {
    Json list = Json::array();
    for (const LayoutExtent& extent : layout.extents) {
        Json one = {extent.is_stored() ? Json(extent.offset) : Json(word_for(extent.held)), extent.length};
        if (extent.is_stored())
            if (const std::string_view packing = packing_of(layout, extent); !packing.empty()) one.push_back(packing);
        list.push_back(std::move(one));
    }
    return list;
}

Json json_of(const Totals& totals) {
    Json object = {{"files", totals.files}, {"folders", totals.folders}, {"bytes", totals.bytes}};
    for (std::size_t band = 0; band < totals.bands.size(); ++band)
        object[std::string(kBandWords[band])] = totals.bands[band];
    return object;
}

void print_line(const Json& object) { fmt::print("{}\n", object.dump(-1, ' ', false, Json::error_handler_t::replace)); }

void print_document(const Json& object) {
    fmt::print("{}\n", object.dump(2, ' ', false, Json::error_handler_t::replace));
}

}  // namespace dredger::cli
