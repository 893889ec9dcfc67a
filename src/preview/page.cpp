#include "preview/page.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/palette.h"
#include "base/text.h"
#include "preview/page_template.h"

namespace dredger::preview {
namespace {

using Json = nlohmann::json;

Json shown_or_null(const std::optional<FileTime>& time) { return time ? Json(shown_time(*time)) : Json(nullptr); }

// The palette's colours as the style sheet names them.
std::string colours() {
    std::string text = ":root {";
    for (std::size_t band = 0; band < palette::kBands.size(); ++band)
        text += fmt::format(" --{}: #{:06x};", kBandWords[band], palette::kBands[band].rgb);
    return text + " }";
}

Json described(const Shown& shown) {
    const Candidate& c = shown.candidate;
    Json facts = Json::array();
    for (const Fact& fact : shown.tile.facts) facts.push_back({fact.name, fact.value});
    return {{"id", c.id},
            {"name", c.record.name},
            {"path", printable(c.record.path())},
            {"state", word_for(c.record.state)},
            {"kind", word_for(c.kind)},
            {"format", c.format},
            {"size", c.record.size},
            {"modified", shown_or_null(c.record.modified)},
            {"deleted", shown_or_null(c.record.deleted)},
            {"volume", shown.volume},
            {"copies", shown.copies},
            {"prospect", c.prospect.value},
            {"band", word_for(c.prospect.band)},
            {"reasons", c.prospect.reasons},
            {"picture", shown.tile.has_picture},
            {"clip", shown.tile.has_clip},
            {"page", shown.tile.has_page},
            {"message", shown.tile.has_message},
            {"text", shown.tile.text},
            {"facts", std::move(facts)},
            {"likeness", shown.tile.likeness == 0 ? std::string() : fmt::format("{:016x}", shown.tile.likeness)}};
}

}  // namespace

std::string page_of(const std::vector<Shown>& shown, const PageFacts& facts) {
    std::string page(kPageStart);
    page.insert(page.find("</style>"), colours() + "\n");
    Json finds = Json::array();
    for (const Shown& one : shown) finds.push_back(described(one));
    const std::string data = Json{
        {"catalog", facts.catalog},
        {"uuid", facts.uuid},
        {"looked_at", facts.looked_at},
        {"finds",
         std::move(finds)}}.dump(-1, ' ', false, Json::error_handler_t::replace);
    // Within a script element only "<" could end it; as an escape it is the same to JSON.
    for (const char c : data) {
        if (c == '<')
            page += "\\u003c";
        else
            page += c;
    }
    page += kPageEnd;
    return page;
}

}  // namespace dredger::preview
