#include "scanning/sweep_words.h"

#include <nlohmann/json.hpp>

namespace dredger {
namespace {

using nlohmann::json;

// What `read` makes of a text that `text_of` wrote; nothing, where none was written yet.
template <class Read>
auto read_back(const std::string& text, const Read& read) -> Result<decltype(read(json()))> {
    if (text.empty()) return decltype(read(json())){};
    try {
        return read(json::parse(text));
    } catch (const json::exception&) {
        return fail(ErrorKind::not_understood, "the catalog is damaged: how far the search of the surface came", {},
                    "scan again into a new catalog");
    }
}

}  // namespace

std::string settings_of(const ScanRequest& request) {
    nlohmann::json settings = nlohmann::json::object();
    for (const Kind kind : request.kinds) settings["kind"].push_back(word_for(kind));
    for (const std::string& format : request.formats) settings["format"].push_back(format);
    for (const Format* format : request.further) settings["own"].push_back(format->name);
    if (request.whole_surface) settings["whole_surface"] = true;
    if (request.every_offset) settings["every_offset"] = true;
    if (request.inside) settings["inside"] = true;
    if (request.join != JoinEffort::quick) settings["join"] = word_for(request.join);
    return settings.dump();
}

std::string text_of(const SweepState& state) {
    nlohmann::json text = {{"dropped", state.dropped},
                           {"given_up", state.given_up},
                           {"taken", nlohmann::json::array()},
                           {"doubtful", nlohmann::json::array()}};
    for (const Extent& extent : state.taken) text["taken"].push_back({extent.offset, extent.length});
    for (const Extent& extent : state.doubtful) text["doubtful"].push_back({extent.offset, extent.length});
    return text.dump();
}

std::string text_of(const std::vector<VolumeTrace>& traces) {
    nlohmann::json text = nlohmann::json::array();
    for (const VolumeTrace& t : traces)
        text.push_back({t.filesystem, t.label, t.offset, t.length, t.agreeing, t.evidence, t.seen_at});
    return text.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
}

Result<SweepState> state_of(const Sweep& sweep) {
    return read_back(sweep.state, [&](const json& text) {
        SweepState state;
        state.position = sweep.position;
        state.dropped = text.at("dropped");
        state.given_up = text.at("given_up");
        for (const auto& [name, list] : {std::pair("taken", &state.taken), std::pair("doubtful", &state.doubtful)})
            for (const json& extent : text.at(name)) list->push_back({extent.at(0), extent.at(1)});
        return state;
    });
}

Result<std::vector<VolumeTrace>> traces_of(const Sweep& sweep) {
    return read_back(sweep.traces, [](const json& text) {
        std::vector<VolumeTrace> traces;
        for (const json& t : text) traces.push_back({t.at(0), t.at(1), t.at(2), t.at(3), t.at(4), t.at(5), t.at(6)});
        return traces;
    });
}

}  // namespace dredger
