#include <CLI/CLI.hpp>
#include <algorithm>
#include <fmt/format.h>

#include "catalog/attaching.h"
#include "checking/checking.h"
#include "cli/commands.h"
#include "cli/content_bar.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/selection_options.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/content.h"
#include "preview/sections.h"
#include "preview/tile.h"

namespace dredger::cli {
namespace {

std::string volume_text(const ScannedVolume& volume) {
    if (volume.place.number == 0) return "none: it lies outside the volumes";
    std::string text = std::to_string(volume.place.number);
    for (const std::string& word : {volume.facts.filesystem, volume.facts.label})
        if (!word.empty()) text += text.find(',') == std::string::npos ? ", " + word : " " + word;
    return text;
}

struct Options {
    std::string catalog;
    std::int64_t id = 0;
    std::string source;
    std::optional<Range> hex;
    bool text = false;
    bool json = false;
};

constexpr std::size_t kHeadBytes = 128;
constexpr std::size_t kHexBytes = 256;  // where no end is asked for
constexpr std::size_t kMaxHexBytes = 64 << 10;
constexpr std::size_t kMaxHolders = 6;  // of a piece
constexpr std::size_t kMaxPieces = 40;

void fact(const char* name, const std::string& value) {
    fmt::print("  {}{}\n", styled(fmt::format("{:<16}", name), Style::dim),
               wrapped_behind(value, width_of_stdout(), 18));
}

const char* origin_in_words(Origin origin) {
    switch (origin) {
        case Origin::record: return "from a file-system record";
        case Origin::remnant: return "from a record that nothing refers to any more";
        case Origin::signature: break;
    }
    return "from its content alone";
}

void print_hex(ByteView bytes, std::uint64_t first) {
    for (std::size_t at = 0; at < bytes.size(); at += 16) {
        std::string hex;
        std::string text;
        for (std::size_t i = at; i < std::min(at + 16, bytes.size()); ++i) {
            const auto b = std::to_integer<unsigned>(bytes.bytes()[i]);
            hex += fmt::format("{:02x} ", b);
            text += b >= 0x20 && b < 0x7F ? static_cast<char>(b) : '.';
        }
        fmt::print("  {:06x}  {:<48} {}\n", first + at, hex, text);
    }
}

void print_times(const FileEntry& r) {
    const std::optional<FileTime>* const shown[] = {&r.modified, &r.created, &r.accessed, &r.deleted};
    fact("modified", time_text(r.modified));
    fact("created", time_text(r.created));
    fact("accessed",
         r.accessed && r.accessed->seconds % 86'400 == 0 ? time_text(r.accessed).substr(0, 10) : time_text(r.accessed));
    if (r.deleted) fact("deleted", time_text(r.deleted));
    const bool is_zoneless = std::any_of(std::begin(shown), std::end(shown), [](const auto* time) {
        return *time && (*time)->clock == FileTime::Clock::local;
    });
    if (is_zoneless)
        fact("",
             styled(fmt::format("{} by the clock of the device that wrote it; its zone is not known", kZonelessMark),
                    Style::dim));
}

std::string holder_text(const Catalog::Overlap& other) {
    return fmt::format("{} of it{}: {} {} ({})", size_text(other.shared.length), other.is_same_file ? ", shared" : "",
                       other.candidate, printable(other.path), word_for(other.state));
}

// Who else has its bytes; the file of the records that it stands within took nothing over.
Result<std::vector<Catalog::Overlap>> holders_of(const Catalog& catalog, const Candidate& c) {
    if (c.layout.within_records) return std::vector<Catalog::Overlap>();
    return catalog.overlapping(c);
}

std::string place_text(const Extent& piece) {
    return piece.is_stored() ? count_text(piece.offset) : piece.is_composed() ? "-" : "hole";
}

// What a message says, as people read it: header, attachments, text.
void print_message(const MediumPtr& medium, const Candidate& c) {
    constexpr std::size_t kMostText = 16 << 10;
    const auto content = open_content(medium, c.layout, c.record.size);
    for (const preview::Section& section : preview::sections_of(*content, c.format, kMostText)) {
        fmt::print("\n{}\n", styled("What it says", Style::bold));
        for (std::size_t from = 0; from < section.text.size();) {
            const std::size_t end = std::min(section.text.find('\n', from), section.text.size());
            fmt::print("{}\n", wrapped("  " + printable(section.text.substr(from, end - from)), width_of_stdout(), 2));
            from = end + 1;
        }
    }
}

// A preview in words: what its decoder says of it, and its first lines.
void print_in_words(const MediumPtr& medium, const Candidate& c) {
    constexpr std::size_t kMostLines = 12;
    const auto content = open_content(medium, c.layout, c.record.size);
    const preview::Tile tile = preview::make_tile(*content, c, {});
    for (const Fact& known : tile.facts)
        if (std::find(c.record.facts.begin(), c.record.facts.end(), known) == c.record.facts.end())
            fact(known.name.c_str(), printable(known.value));
    if (tile.text.empty()) return;
    fmt::print("\n{}\n", styled("What it says", Style::bold));
    std::size_t lines = 0, from = 0;
    for (; from < tile.text.size() && lines < kMostLines; ++lines) {
        const std::size_t end = std::min(tile.text.find('\n', from), tile.text.size());
        fmt::print("  {}\n", shortened(printable(tile.text.substr(from, end - from)), width_of_stdout() - 2));
        from = end + 1;
    }
    if (from < tile.text.size()) fmt::print("  ...\n");
}

Result<void> print_pieces(const Catalog& catalog, const Candidate& c, const Coverage& bad) {
    const auto& layout = c.layout.extents;
    fmt::print("\n{}\n",
               styled(fmt::format("Where it lies ({})", layout.empty() ? "not known" : counted(layout.size(), "piece")),
                      Style::bold));
    if (layout.empty()) return {};
    DREDGER_TRY(const auto overlaps, holders_of(catalog, c));
    if (!c.layout.within_records && c.layout.codec == Codec::none)
        fmt::print("{}\n", content_bar(parts_of(c, overlaps, bad, std::min<std::size_t>(width_of_stdout() - 4, 72))));
    Table table({{.title = "PIECE", .align = Table::Align::right, .worth = 2},
                 {.title = "IN THE FILE", .align = Table::Align::right, .worth = 1},
                 {"ON THE MEDIUM", Table::Align::right},
                 {"BYTES", Table::Align::right},
                 {"NOW HELD BY"}});
    std::uint64_t at = 0;
    for (std::size_t n = 0; n < std::min(layout.size(), kMaxPieces); ++n) {
        const Extent& piece = layout[n];
        std::vector<std::string> holders;
        for (const auto& other : overlaps)
            if (other.piece == n && holders.size() < kMaxHolders) holders.push_back(holder_text(other));
        std::uint64_t unreadable = 0;
        if (piece.is_stored())
            for (const Extent& area : bad.within(piece.offset, piece.length)) unreadable += area.length;
        if (unreadable > 0) holders.push_back(fmt::format("{} of it can't be read", size_text(unreadable)));
        if (holders.empty())
            holders.emplace_back(piece.is_zeros()          ? "zeros that are not stored"
                                 : piece.is_composed()     ? "composed from what the store keeps"
                                 : c.layout.within_records ? "the record itself"
                                 : c.record.state == State::live || c.record.state == State::trashed ? "itself"
                                                                                                     : "nothing known");
        table.add(
            {std::to_string(n + 1), count_text(at), place_text(piece), count_text(piece.length), holders.front()});
        for (std::size_t i = 1; i < holders.size(); ++i) table.add({"", "", "", "", holders[i]});
        at += piece.length;
    }
    table.print(2);
    if (layout.size() > kMaxPieces) fmt::print("  ... and {} more pieces\n", layout.size() - kMaxPieces);
    return {};
}

void print_others(const char* title, const std::vector<Candidate>& others, bool with_paths) {
    if (others.empty()) return;
    fmt::print("\n{}\n", styled(title, Style::bold));
    Table table({{"ID", Table::Align::right},
                 {"PROSPECT"},
                 {.title = "STATE", .worth = 2},
                 {.title = "SIZE", .align = Table::Align::right, .worth = 3},
                 {.title = "MODIFIED", .worth = 4},
                 {.title = "NAME", .is_path = true}});
    for (const Candidate& other : others)
        table.add({std::to_string(other.id), meter(other.prospect), std::string(word_for(other.record.state)),
                   size_text(other.record.size), time_text(other.record.modified),
                   printable(with_paths ? other.record.path() : other.record.name)});
    table.print(2);
}

// Its copies, earlier versions of it, and its streams.
Result<void> print_relatives(const Catalog& catalog, const Candidate& c) {
    DREDGER_TRY(const auto copies, catalog.of_same_content(c));
    print_others("The same content", copies, true);
    DREDGER_TRY(const auto others, catalog.of_same_name(c));
    print_others("Others of this name", others, false);
    DREDGER_TRY(const auto lives, catalog.copies_of(c.record.path()));
    print_others("Safety copies of it", lives, true);
    return {};
}

// The bytes that were asked for, or the first ones. The source need not be attached to read what the catalog knows.
int print_bytes(const ScannedSource& source, const MediumPtr& medium, const Options& options, const Candidate& c) {
    const bool asked = options.hex.has_value();
    if (c.layout.empty() || c.record.size == 0) {
        if (asked) fmt::print("\nIt has no bytes to show.\n");
        return kDone;
    }
    fmt::print("\n{}\n", styled(asked ? "Its bytes" : "How it begins", Style::bold));
    if (medium == nullptr) {
        fmt::print("  The medium is not at {}; tell where it is with --source PATH.\n", source.path);
        return asked ? kSource : kDone;
    }
    const auto content = open_content(medium, c.layout, c.record.size);
    const std::uint64_t from = asked ? static_cast<std::uint64_t>(options.hex->from.value_or(0)) : 0;
    if (from >= content->size())
        return report({ErrorKind::usage, fmt::format("--hex: the file has only {} bytes", count_text(content->size())),
                       "", "begin before its end"});
    std::uint64_t length = asked ? kHexBytes : kHeadBytes;
    if (asked && options.hex->to) length = static_cast<std::uint64_t>(*options.hex->to) + 1 - from;
    std::vector<std::byte> bytes(
        static_cast<std::size_t>(std::min({length, content->size() - from, std::uint64_t{kMaxHexBytes}})));
    std::vector<Extent> bad;
    if (const auto read = content->read(from, bytes, &bad); !read) {
        fmt::print("  These bytes can't be read.\n");
        return asked ? kSource : kDone;
    }
    print_hex(ByteView(bytes), from);
    if (!bad.empty()) fmt::print("  Zeros stand for what could not be read.\n");
    std::vector<std::byte> head(static_cast<std::size_t>(std::min<std::uint64_t>(512, content->size())));
    if (asked || !content->read(0, head, &bad)) return kDone;
    if (const Format* format = format_with_head(ByteView(head)))
        fmt::print("  The signature of {} stands there.\n", format->name);
    return kDone;
}

int print_json(const Catalog& catalog, const Candidate& c, const ScannedVolume* volume, const ScannedSource* source,
               const Coverage& bad) {
    const auto copies = catalog.of_same_content(c);
    const auto others = catalog.of_same_name(c);
    const auto lives = catalog.copies_of(c.record.path());
    const auto overlaps = holders_of(catalog, c);
    for (const auto* list : {&copies, &others, &lives})
        if (!*list) return report(list->error());
    if (!overlaps) return report(overlaps.error());
    const auto ids = [](const std::vector<Candidate>& list) {
        Json numbers = Json::array();
        for (const Candidate& one : list) numbers.push_back(one.id);
        return numbers;
    };
    Json object = json_of(c, catalog.path().filename().string(), volume != nullptr ? volume->place.number : 0);
    object["medium"] = source != nullptr ? Json(source->path) : Json(nullptr);
    object["attributes"] = c.record.attributes;
    object["facts"] = Json::object();
    for (const Fact& known : c.record.facts) object["facts"][known.name] = known.value;
    object["extents"] = json_of(c.layout);
    object["unreadable"] = Json::array();
    for (const Extent& extent : c.layout.extents)
        if (extent.is_stored())
            for (const Extent& area : bad.within(extent.offset, extent.length))
                object["unreadable"].push_back({area.offset, area.length});
    object["held_by"] = Json::array();
    for (const Catalog::Overlap& other : *overlaps)
        object["held_by"].push_back({{"id", other.candidate},
                                     {"path", other.path},
                                     {"state", word_for(other.state)},
                                     {"extent", {other.shared.offset, other.shared.length}}});
    object["same_content"] = ids(*copies);
    object["same_name"] = ids(*others);
    object["safety_copies"] = ids(*lives);
    print_document(object);
    return kDone;
}

int show(const Options& options) {
    auto catalog = open_catalog(options.catalog);
    if (!catalog) return report(catalog.error());
    const auto found = catalog->find(options.id);
    if (!found) return report(found.error());
    if (!*found)
        return report({ErrorKind::usage, fmt::format("there is no find {}", options.id), options.catalog,
                       fmt::format("dredger list {} shows the IDs", as_word(options.catalog))});
    Candidate c = **found;
    const auto volumes = catalog->volumes();
    const auto sources = catalog->sources();
    if (!volumes) return report(volumes.error());
    if (!sources) return report(sources.error());

    // What was never read is checked now, where the medium is at hand.
    MediumPtr medium;
    if (const auto attached = attach(*catalog, {c.volume}, {options.source, {}, false, false})) {
        for (const std::string& remark : attached->remarks) warn(remark);
        const auto there = attached->media.find(c.volume);
        if (there != attached->media.end()) medium = there->second;
    } else if (attached.error().kind == ErrorKind::unsafe) {
        warn(attached.error().line());
    }
    if (medium != nullptr) {
        check_content(medium, c);
        if (c.is_checked && !(*found)->is_checked) catalog->keep({c});
    }

    const ScannedVolume* volume = nullptr;
    for (const ScannedVolume& v : *volumes)
        if (v.id == c.volume) volume = &v;
    const ScannedSource* source = nullptr;
    for (const ScannedSource& s : *sources)
        if (volume != nullptr && s.id == volume->source) source = &s;
    const auto bad = unreadable_of(*catalog, source != nullptr ? source->id : 0, medium);
    if (!bad) return report(bad.error());
    if (options.json) return print_json(*catalog, c, volume, source, *bad);

    fmt::print("{}  {}\n\n", styled(fmt::format("{}", c.id), Style::bold),
               styled(printable(c.record.path()), Style::bold));
    fact("prospect", meter(c.prospect));
    fact("state", fmt::format("{}, {}", word_for(c.record.state), origin_in_words(c.record.origin)));
    fact("check", std::string(word_for(c.prospect.check)));
    fact("kind", c.record.is_folder ? "folder"
                 : c.format.empty() ? std::string(word_for(c.kind))
                                    : fmt::format("{}, {}", word_for(c.kind), c.format));
    if (!c.record.is_folder)
        fact("size", fmt::format("{} ({} bytes)", size_text(c.record.size), count_text(c.record.size)));
    print_times(c.record);
    if (!c.record.attributes.empty()) fact("attributes", fmt::format("{}", fmt::join(c.record.attributes, ", ")));
    if (c.record.changed) fact("record changed", time_text(c.record.changed));
    for (const Fact& known : c.record.facts) fact(known.name.c_str(), printable(known.value));
    if (volume != nullptr) {
        fact("volume",
             printable(fmt::format("{} of {}", volume_text(*volume), source != nullptr ? source->path : "?")));
        // A find by content has no record, and an inode's number is told already.
        const auto& facts = c.record.facts;
        const bool has_inode = std::any_of(facts.begin(), facts.end(), [](const Fact& f) { return f.name == "inode"; });
        if (c.record.origin != Origin::signature && !has_inode)
            fact("record",
                 fmt::format("{} (its number, or its place on the volume)", count_text(c.record.identity.number)));
    }
    if (c.copy.role != Role::none) {
        fact("role", c.copy.of.empty() ? std::string(word_for(c.copy.role))
                                       : fmt::format("{} of {}", word_for(c.copy.role), printable(c.copy.of)));
        fact("", printable(c.copy.why));
        if (c.copy.as_of) fact("as of", time_text(c.copy.as_of));
    }
    if (!c.prospect.reasons.empty()) fmt::print("\n{}\n", styled("Why this prospect", Style::bold));
    for (const std::string& reason : c.prospect.reasons)
        fmt::print("{}\n", wrapped("  - " + printable(reason), width_of_stdout(), 4));
    if (c.record.is_folder) return kDone;
    if (options.text) {
        if (medium != nullptr)
            print_in_words(medium, c);
        else
            tell("\nThe medium is not at hand: attach it, or name it with --source, to see what it says.\n");
        return kDone;
    }
    if (const auto printed = print_pieces(*catalog, c, *bad); !printed) return report(printed.error());
    if (const auto printed = print_relatives(*catalog, c); !printed) return report(printed.error());
    if (c.format == "eml" && medium != nullptr && !options.hex) {
        print_message(medium, c);
        return kDone;
    }
    return source != nullptr ? print_bytes(*source, medium, options, c) : kDone;
}

}  // namespace

void add_show(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("show", "Show all that is known of one find");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("ID", options->id, "as dredger list shows it")->required();
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    command
        ->add_option_function<std::string>(
            "--hex", [options](const std::string& text) { options->hex = parse_offsets(text).value_or(Range()); },
            "these bytes of the content: 0x200..0x3ff (64 KiB at most), or 4096.. for the 256 from there")
        ->check(taken_by(parse_offsets))
        ->type_name("RANGE");
    command->add_flag("--text", options->text,
                      "a preview in words, in place of where it lies: what its decoder says, and its first lines");
    command->add_flag("--json", options->json, "as JSON (docs/json.md)");
    command->footer(
        "Examples:\n"
        "  dredger show card.dredge 17\n"
        "  dredger show card.dredge 17 --text\n"
        "  dredger show card.dredge 17 --hex 0x200..0x3ff\n"
        "  dredger show card.dredge 17 --source /mnt/images/card.img");
    command->callback([options, &exit_code] { exit_code = show(*options); });
}

}  // namespace dredger::cli
