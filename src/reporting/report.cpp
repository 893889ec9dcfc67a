#include "reporting/report.h"

#include <charconv>
#include <fmt/format.h>
#include <openssl/evp.h>

#include "base/amounts.h"
#include "base/csv.h"
#include "base/markup.h"
#include "base/text.h"
#include "base/whole_file.h"
#include "catalog/attaching.h"
#include "reporting/dfxml.h"
#include "reporting/figures.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr const char* kHead = R"(<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src data:; style-src 'unsafe-inline'">
<title>Report</title>
<style>
body { font: 15px/1.5 system-ui, sans-serif; color: #2b2a28; background: #efece5; margin: 0; }
main { max-width: 1080px; margin: 24px auto; background: #fff; padding: 24px 36px; border: 1px solid #d8d3c8; border-radius: 8px; }
h1 { font-size: 24px; margin: 0 0 4px; } h2 { font-size: 18px; margin: 32px 0 8px; }
p.pale { color: #6f6a61; margin: 0 0 16px; }
table { border-collapse: collapse; width: 100%; font-size: 14px; }
th, td { text-align: left; padding: 5px 10px; border-bottom: 1px solid #e3dfd5; vertical-align: top; overflow-wrap: anywhere; }
td.number, th.number { text-align: right; white-space: nowrap; }
td.word { white-space: nowrap; }
td.sum { font: 10px ui-monospace, monospace; white-space: nowrap; }
p.stopped { font-weight: 600; color: #8e2323; }
img { width: 100%; border: 1px solid #e3dfd5; border-radius: 4px; margin: 8px 0; }
@media print { body { background: #fff; } main { border: 0; margin: 0; max-width: none; } }
</style>
</head>
<body><main>
)";

std::string base64(const std::string& bytes) {
    std::string text((bytes.size() + 2) / 3 * 4 + 1, '\0');
    EVP_EncodeBlock(reinterpret_cast<unsigned char*>(text.data()), reinterpret_cast<const unsigned char*>(bytes.data()),
                    static_cast<int>(bytes.size()));
    text.pop_back();
    return text;
}

// "1234567" as "1,234,567"; what is no number stays as it is.
std::string grouped_digits(const std::string& text) {
    std::uint64_t number = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    return error == std::errc() && end == text.data() + text.size() ? count_text(number) : escaped(text);
}

class ReportPage {
  public:
    ReportPage(const Catalog& catalog, const ReportRequest& request, Observer& observer)
        : catalog_(catalog), request_(request), observer_(observer) {}

    Result<std::string> run() {
        DREDGER_TRY(sources_, catalog_.sources());
        DREDGER_TRY(volumes_, catalog_.volumes());
        DREDGER_CHECK(find_unreadable());
        DREDGER_TRY(const Totals totals, catalog_.totals(request_.selection));
        html_ = kHead;
        html_ += fmt::format("<h1>What was found</h1>\n<p class=\"pale\">Catalog {}, reported {} by Dredger {}</p>\n",
                             escaped(printable(catalog_.path().filename().string())), escaped(request_.made),
                             escaped(request_.version));
        if (!request_.shop.empty()) html_ += fmt::format("<p>{}</p>\n", escaped(printable(request_.shop)));
        html_ += fmt::format(
            "<p>{} files, {} bytes by their records: {} sound, {} patchy, {} faint, {} gone. Of their bytes "
            "{} % are expected to come back right.</p>\n",
            count_text(totals.files), count_text(totals.bytes), count_text(totals.bands[0]),
            count_text(totals.bands[1]), count_text(totals.bands[2]), count_text(totals.bands[3]), totals.prospect());
        media();
        struct Part {
            const char* title;
            Result<void> (ReportPage::*write)();
            bool is_wanted = true;
        };
        const std::vector<Part> parts = {{"Where the finds lie", &ReportPage::maps},
                                         {"What they are", &ReportPage::kinds},
                                         {"When they went", &ReportPage::deletions},
                                         {"What was odd or could not be read", &ReportPage::odd},
                                         {"What was restored", &ReportPage::restored, !request_.restored.empty()}};
        std::vector<std::string> missing;
        for (const Part& part : parts) {
            if (!part.is_wanted) continue;
            observer_.progress(
                {"writing the report", static_cast<std::uint64_t>(&part - parts.data()), parts.size(), "parts"});
            if (observer_.should_stop()) {
                missing.push_back(fmt::format("\"{}\"", part.title));
                continue;
            }
            html_ += fmt::format("<h2>{}</h2>\n", part.title);
            DREDGER_CHECK((this->*part.write)());
        }
        if (!missing.empty())
            html_ += fmt::format(
                "<p class=\"stopped\">This report was interrupted: {} {} missing. Write it again for all.</p>\n",
                fmt::join(missing, ", "), missing.size() == 1 ? "is" : "are");
        html_ += "</main></body>\n</html>\n";
        return std::move(html_);
    }

  private:
    // Where a medium is not at hand, only what the scan met.
    Result<void> find_unreadable() {
        AttachRequest request;
        request.missing = [](const ScannedSource&, const Error&) { return std::optional<fs::path>(); };
        const auto attached = attach(catalog_, request);
        const auto media = attached ? attached->media : decltype(attached->media)();
        for (const ScannedSource& source : sources_) {
            MediumPtr medium;
            for (const ScannedVolume& volume : volumes_)
                if (const auto found = media.find(volume.id); volume.source == source.id && found != media.end())
                    medium = found->second;
            DREDGER_TRY(unreadable_[source.id], unreadable_of(catalog_, source.id, medium));
        }
        return {};
    }

    void media() {
        html_ +=
            "<h2>Media and volumes</h2>\n<table><tr><th>Medium</th><th class=\"number\">Bytes</th><th>Serial "
            "number</th></tr>\n";
        for (const ScannedSource& s : sources_)
            html_ +=
                fmt::format("<tr><td>{}</td><td class=\"number\">{}</td><td>{}</td></tr>\n", escaped(printable(s.path)),
                            count_text(s.identity.size), escaped(printable(s.identity.serial)));
        html_ +=
            "</table>\n<table><tr><th class=\"number\">Volume</th><th>File system</th><th>Label</th><th "
            "class=\"number\">At byte</th><th class=\"number\">Bytes</th><th>Scan</th></tr>\n";
        for (const ScannedVolume& v : volumes_) {
            std::vector<std::string> how;
            if (v.place.number != 0) how.emplace_back(v.done ? "records read" : "not finished");
            if (const auto sweep = catalog_.sweep_of(v.id); sweep && *sweep)
                how.push_back(fmt::format("content searched: {} of {} bytes", count_text((*sweep)->position),
                                          count_text((*sweep)->total)));
            if (!v.map_is_trusted) how.emplace_back("its space map is not to be trusted");
            html_ += fmt::format(
                "<tr><td class=\"number\">{}</td><td>{}</td><td>{}</td><td class=\"number\">{}</td><td "
                "class=\"number\">{}</td><td>{}</td></tr>\n",
                v.place.number == 0 ? "outside" : std::to_string(v.place.number), escaped(v.facts.filesystem),
                escaped(printable(v.facts.label)), count_text(v.place.offset), count_text(v.place.length),
                escaped(fmt::format("{}", fmt::join(how, "; "))));
        }
        html_ += "</table>\n";
    }

    Result<void> figure(const reporting::Figure& figure) {
        DREDGER_CHECK(reporting::write_figure(figure, request_.destination));
        DREDGER_TRY(const std::string svg, read_whole_file(request_.destination / (figure.name + ".svg")));
        html_ +=
            fmt::format("<img alt=\"{}\" src=\"data:image/svg+xml;base64,{}\">\n", escaped(figure.title), base64(svg));
        return {};
    }

    Result<void> maps() {
        for (const ScannedSource& source : sources_) {
            DREDGER_TRY(reporting::Figure map, reporting::medium_map(catalog_, source, unreadable_[source.id]));
            if (sources_.size() > 1) map.name += fmt::format("-{}", source.id);
            DREDGER_CHECK(figure(map));
        }
        return {};
    }

    Result<void> deletions() {
        DREDGER_TRY(const reporting::Figure deletions, reporting::deletions_figure(catalog_, request_.selection));
        return figure(deletions);
    }

    Result<void> kinds() {
        DREDGER_TRY(const reporting::Figure kinds, reporting::kinds_figure(catalog_, request_.selection));
        DREDGER_CHECK(figure(kinds));
        html_ +=
            "<table><tr><th>Format</th><th class=\"number\">Files</th><th class=\"number\">Bytes</th><th "
            "class=\"number\">Sound</th><th class=\"number\">Patchy</th><th class=\"number\">Faint</th><th "
            "class=\"number\">Gone</th></tr>\n";
        DREDGER_CHECK(catalog_.each_group(
            request_.selection, Grouping::format, [&](const GroupTree::Path& path, const Totals& t) {
                if (t.files == 0) return;
                html_ += fmt::format("<tr><td>{}</td>", path.front().empty() ? "not known" : escaped(path.front()));
                for (const std::uint64_t count : {t.files, t.bytes, t.bands[0], t.bands[1], t.bands[2], t.bands[3]})
                    html_ += fmt::format("<td class=\"number\">{}</td>", count_text(count));
                html_ += "</tr>\n";
            }));
        html_ += "</table>\n";
        return {};
    }

    // What the medium itself said, and the finds that will not come back as they were.
    Result<void> odd() {
        std::vector<std::string> sentences;
        for (const ScannedSource& source : sources_) {
            const std::vector<Extent> bad = unreadable_[source.id].extents();
            std::uint64_t bytes = 0;
            for (const Extent& area : bad) bytes += area.length;
            if (bytes > 0)
                sentences.push_back(
                    fmt::format("{}: {} bytes in {} can't be read", source.path, count_text(bytes),
                                bad.size() == 1 ? std::string("one area") : count_text(bad.size()) + " areas"));
        }
        for (const ScannedVolume& v : volumes_)
            for (const std::string& warning : v.facts.warnings)
                sentences.push_back(fmt::format("volume {}: {}", v.place.number, warning));
        for (const std::string& sentence : sentences) html_ += fmt::format("<p>{}</p>\n", escaped(printable(sentence)));
        Selection doubtful = request_.selection;
        std::erase_if(doubtful.bands, [](Band band) { return band == Band::sound; });
        if (doubtful.bands.empty() && request_.selection.bands.empty())
            doubtful.bands = {Band::patchy, Band::faint, Band::gone};
        DREDGER_TRY(const Totals totals, catalog_.totals(doubtful));
        if (doubtful.bands.empty() || totals.files == 0) {
            if (sentences.empty()) html_ += "<p>Nothing.</p>\n";
            return {};
        }
        constexpr std::uint64_t kMost = 200;
        html_ += fmt::format(
            "<p>{} of the finds are not whole, as far as can be told{}:</p>\n<table><tr><th "
            "class=\"number\">ID</th><th "
            "class=\"number\">Prospect</th><th>Band</th><th>Path</th><th>Why</th></tr>\n",
            count_text(totals.files), totals.files > kMost ? fmt::format(" (the first {} are shown)", kMost) : "");
        DREDGER_CHECK(catalog_.each(
            doubtful, Order{}, false,
            [&](const Candidate& c) {
                if (c.record.is_folder) return true;
                html_ += fmt::format(
                    "<tr><td class=\"number\">{}</td><td class=\"number\">{}</td><td class=\"word\">{}</td>"
                    "<td>{}</td><td>{}</td></tr>\n",
                    c.id, c.prospect.value, word_for(c.prospect.band), escaped(printable(c.record.path())),
                    escaped(printable(fmt::format("{}", fmt::join(c.prospect.reasons, "; ")))));
                return true;
            },
            {0, kMost}));
        html_ += "</table>\n";
        return {};
    }

    // From the manifest that a restore leaves.
    Result<void> restored() {
        DREDGER_TRY(const std::string text, read_whole_file(request_.restored / "manifest.csv"));
        const auto rows = parse_csv(text);
        if (!rows)
            return fail(ErrorKind::usage, "this is no manifest", (request_.restored / "manifest.csv").string(),
                        "give a folder that dredger restore wrote");
        html_ += "<table><tr><th>File</th><th class=\"number\">Bytes</th><th>Outcome</th><th>SHA-256</th></tr>\n";
        for (auto row : *rows) {
            const auto quick = std::min(row["facts"].rfind("xxh128 "), row["facts"].size());
            html_ +=
                fmt::format("<tr><td>{}</td><td class=\"number\">{}</td><td>{}</td><td class=\"sum\">{}</td></tr>\n",
                            escaped(printable(row["restored_path"])), grouped_digits(row["restored_bytes"]),
                            escaped(row["outcome"]), escaped(row["sha256"] + row["facts"].substr(quick)));
        }
        html_ += "</table>\n";
        return {};
    }

    const Catalog& catalog_;
    const ReportRequest& request_;
    Observer& observer_;
    std::vector<ScannedSource> sources_;
    std::vector<ScannedVolume> volumes_;
    std::map<std::int64_t, Coverage> unreadable_;  // by source
    std::string html_;
};

}  // namespace

Result<fs::path> write_report(const Catalog& catalog, const ReportRequest& request, Observer& observer) {
    std::error_code failed;
    fs::create_directories(request.destination, failed);
    if (failed)
        return fail(ErrorKind::output, "the folder for the report can't be made: " + failed.message(),
                    request.destination.string(), "choose a folder that is yours");
    DREDGER_TRY(const std::string html, ReportPage(catalog, request, observer).run());
    if (!observer.should_stop())
        DREDGER_CHECK(
            reporting::write_dfxml(catalog, request.selection, request.version, request.destination / "finds.dfxml"));
    const fs::path page = request.destination / "report.html";
    DREDGER_CHECK(write_over(page, html, "the report can't be written"));
    return page;
}

}  // namespace dredger
