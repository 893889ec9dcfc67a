#include "repairing/look.h"

#include <fmt/format.h>

#include "base/beneath.h"
#include "base/markup.h"
#include "base/text.h"
#include "base/whole_file.h"
#include "formats/format.h"
#include "preview/decoders.h"
#include "preview/tile.h"

namespace dredger::repairing {
namespace {

namespace fs = std::filesystem;

constexpr std::string_view kStyle = R"(
  body { margin: 0; font: 15px/1.45 "DejaVu Sans", sans-serif; color: #2b2a28; background: #f6f3ec; }
  main { max-width: 1180px; margin: 0 auto; padding: 24px; }
  h1 { font-size: 22px; font-weight: 600; margin: 0 0 4px; }
  p.lead { margin: 0 0 20px; color: #6b655c; }
  section { display: grid; grid-template-columns: 1fr 1fr 300px; gap: 18px; padding: 18px 0; border-top: 1px solid #d9d2c3; }
  figure { margin: 0; }
  figcaption { color: #8a857b; font-size: 13px; margin-bottom: 6px; }
  img { display: block; width: 100%; max-width: 420px; border: 1px solid #d9d2c3; background: #fff; }
  pre { margin: 0; padding: 10px; max-height: 260px; overflow: hidden; white-space: pre-wrap; font-size: 12px;
        border: 1px solid #d9d2c3; background: #fff; }
  .nothing { padding: 40px 10px; text-align: center; color: #8a857b; border: 1px dashed #d9d2c3; }
  h2 { font-size: 15px; margin: 0 0 6px; overflow-wrap: anywhere; }
  .outcome { display: inline-block; padding: 1px 9px; border-radius: 9px; color: #fff; background: #1f6f8b; font-size: 13px; }
  .partly { background: #b7791f; } .beyond, .wants { background: #9b2c2c; }
  .share { margin-left: 8px; color: #6b655c; } ul { margin: 8px 0 0; padding-left: 18px; font-size: 13px; }
)";

}  // namespace

Result<LookPage> LookPage::create(const fs::path& folder) {
    std::error_code failed;
    for (const char* part : {"tiles", "clips"}) {
        DREDGER_CHECK(refuse_link(folder / part));
        fs::create_directories(folder / part, failed);
        if (failed)
            return fail(ErrorKind::output, "the folder for the page can't be made: " + failed.message(),
                        folder.string(), "choose a folder that is yours");
    }
    preview::load_decoders();
    return LookPage(folder);
}

std::string LookPage::side(const Medium& content, std::string_view format) {
    Candidate shown;
    shown.id = next_++;
    shown.format = format;
    if (const Format* known = format_named(format)) shown.kind = known->kind;
    shown.record.name = "file";
    shown.record.size = content.size();
    const preview::Tile tile = preview::make_tile(content, shown, folder_);
    if (tile.has_picture) return fmt::format("<img src=\"tiles/{}.png\" alt=\"\">", shown.id);
    if (!tile.text.empty()) return fmt::format("<pre>{}</pre>", escaped(valid_utf8(tile.text.substr(0, 1500))));
    return "<div class=\"nothing\">nothing can be seen of it</div>";
}

void LookPage::add(const RepairedItem& item, const Medium& before, const Medium* after) {
    const std::string_view outcome = word_for(item.outcome);
    const std::string was = side(before, item.format);
    const std::string is =
        after == nullptr ? std::string("<div class=\"nothing\">there is no result</div>") : side(*after, item.format);
    rows_ += fmt::format(
        "<section><figure><figcaption>before</figcaption>{}</figure><figure><figcaption>after</figcaption>{}</figure>"
        "<div><h2>{}</h2><span class=\"outcome {}\">{}</span><span class=\"share\">{}</span><ul>",
        was, is, escaped(valid_utf8(fs::path(item.file).filename().string())), outcome.substr(0, outcome.find(' ')),
        outcome, item.of == 0 ? "" : fmt::format("{} of {} {}", item.kept, item.of, item.unit));
    for (std::size_t at = 0; at < item.what.size();) {
        const std::size_t end = std::min(item.what.find("; ", at), item.what.size());
        rows_ += fmt::format("<li>{}</li>", escaped(valid_utf8(std::string_view(item.what).substr(at, end - at))));
        at = end + 2;
    }
    rows_ += "</ul></div></section>\n";
}

Result<fs::path> LookPage::finish() const {
    const fs::path page = folder_ / "index.html";
    DREDGER_CHECK(write_whole_file(
        page,
        fmt::format(
            "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Before and after</title>\n"
            "<style>{}</style></head><body><main><h1>Before and after</h1>\n"
            "<p class=\"lead\">What was mended, as it was and as it is. repairs.csv beside the results has all of it."
            "</p>\n{}</main></body></html>\n",
            kStyle, rows_)));
    return page;
}

}  // namespace dredger::repairing
