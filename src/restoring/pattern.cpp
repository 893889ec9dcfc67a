#include "restoring/pattern.h"

#include <algorithm>
#include <charconv>
#include <ctime>
#include <filesystem>
#include <fmt/format.h>

#include "base/text.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

// The stem and the extension, with its point, of a file name; a name that begins with a point is all stem.
std::pair<std::string, std::string> stem_and_extension(const std::string& name) {
    const fs::path path(name);
    return {path.stem().string(), path.extension().string()};
}

std::string fact_of(const NameFacts& facts, std::string_view name) {
    if (facts.said != nullptr)
        for (const Fact& fact : facts.said->facts)
            if (fact.name == name) return fact.value;
    for (const Fact& fact : facts.candidate->record.facts)
        if (fact.name == name) return fact.value;
    return {};
}

std::string time_as(const std::optional<FileTime>& time, const std::string& form) {
    if (!time) return {};
    const std::time_t seconds = in_local_digits(*time).seconds;
    std::tm parts{};
    if (::gmtime_r(&seconds, &parts) == nullptr) return {};
    char text[256];
    const std::size_t length = std::strftime(text, sizeof text, form.empty() ? "%Y-%m-%d" : form.c_str(), &parts);
    return {text, length};
}

std::string number_as(std::uint64_t number, const std::string& form) {
    unsigned width = 0;
    std::from_chars(form.data(), form.data() + form.size(), width);
    return fmt::format("{:0{}}", number, width);
}

enum class Form { none, date, width };

struct Field {
    std::string_view name;
    std::string_view meaning;
    Form form;
    bool asks_content;
    bool may_hold_slashes;
    std::string (*value)(const NameFacts&, const std::string& form);
};

constexpr Field kFields[] = {
    {"name", "the original name", Form::none, false, false,
     [](const NameFacts& f, const std::string&) { return f.candidate->record.name; }},
    {"stem", "the original name without its extension", Form::none, false, false,
     [](const NameFacts& f, const std::string&) { return stem_and_extension(f.candidate->record.name).first; }},
    {"ext", "the original extension, without its point", Form::none, false, false,
     [](const NameFacts& f, const std::string&) {
         const std::string extension = stem_and_extension(f.candidate->record.name).second;
         return extension.empty() ? extension : extension.substr(1);
     }},
    {"folder", "the original folder, with those above it", Form::none, false, true,
     [](const NameFacts& f, const std::string&) { return f.candidate->record.folder; }},
    {"id", "its number in the catalog; {id:6} in six digits", Form::width, false, false,
     [](const NameFacts& f, const std::string& form) {
         return number_as(static_cast<std::uint64_t>(f.candidate->id), form);
     }},
    {"number", "a running number; {number:4} in four digits", Form::width, false, false,
     [](const NameFacts& f, const std::string& form) { return number_as(f.number, form); }},
    {"kind", "picture, document ...", Form::none, false, false,
     [](const NameFacts& f, const std::string&) { return std::string(word_for(f.candidate->kind)); }},
    {"format", "jpeg, docx ...", Form::none, false, false,
     [](const NameFacts& f, const std::string&) { return f.candidate->format; }},
    {"prospect", "0 to 100", Form::width, false, false,
     [](const NameFacts& f, const std::string& form) {
         return number_as(static_cast<std::uint64_t>(f.candidate->prospect.value), form);
     }},
    {"volume", "the label of its volume, or \"volume 2\"", Form::none, false, false,
     [](const NameFacts& f, const std::string&) { return f.volume; }},
    {"modified", "when it was last changed; {modified:%Y-%m} as strftime writes dates", Form::date, false, true,
     [](const NameFacts& f, const std::string& form) { return time_as(f.candidate->record.modified, form); }},
    {"created", "when it was made, likewise", Form::date, false, true,
     [](const NameFacts& f, const std::string& form) { return time_as(f.candidate->record.created, form); }},
    {"taken", "when its content says that it was taken, written or sent, likewise", Form::date, true, true,
     [](const NameFacts& f, const std::string& form) {
         return time_as(f.said != nullptr ? f.said->date : std::nullopt, form);
     }},
    {"camera", "as its content says", Form::none, true, false,
     [](const NameFacts& f, const std::string&) { return fact_of(f, "camera"); }},
    {"title", "as its content says", Form::none, true, false,
     [](const NameFacts& f, const std::string&) { return f.said != nullptr ? f.said->title : std::string(); }},
    {"artist", "as its content says", Form::none, true, false,
     [](const NameFacts& f, const std::string&) { return fact_of(f, "artist"); }},
};

const Field* field_named(std::string_view name) {
    const auto* const found =
        std::find_if(std::begin(kFields), std::end(kFields), [&](const Field& f) { return f.name == name; });
    return found == std::end(kFields) ? nullptr : found;
}

tl::unexpected<Error> off(std::string what) {
    return fail(ErrorKind::usage, "--rename: " + std::move(what), "", "dredger restore --help lists the fields");
}

Result<void> check_form(const Field& field, const std::string& form) {
    const bool is_number = !form.empty() && form.size() <= 2 &&
                           std::all_of(form.begin(), form.end(), [](char c) { return c >= '0' && c <= '9'; });
    if (form.empty() || (field.form == Form::width && is_number) ||
        (field.form == Form::date && form.find('%') != std::string::npos))
        return {};
    switch (field.form) {
        case Form::none: return off(fmt::format("{{{}}} takes nothing behind a colon", field.name));
        case Form::width: return off(fmt::format("{{{}:{}}}: a number of digits belongs there", field.name, form));
        case Form::date: break;
    }
    return off(fmt::format("{{{}:{}}}: a date form as %Y-%m-%d belongs there", field.name, form));
}

}  // namespace

std::vector<std::pair<std::string_view, std::string_view>> Pattern::fields() {
    std::vector<std::pair<std::string_view, std::string_view>> list;
    for (const Field& field : kFields) list.emplace_back(field.name, field.meaning);
    return list;
}

Result<Pattern> Pattern::parse(std::string_view text) {
    Pattern pattern;
    if (text.empty()) return off("the pattern is empty");
    std::string plain;
    for (std::size_t at = 0; at < text.size(); ++at) {
        if (text[at] == '}') return off("a } without its {");
        if (text[at] != '{') {
            plain += text[at];
            continue;
        }
        const std::size_t close = text.find('}', at);
        if (close == text.npos) return off("a { without its }");
        const std::string_view inside = text.substr(at + 1, close - at - 1);
        const std::size_t colon = inside.find(':');
        Piece piece;
        piece.text = std::exchange(plain, {});
        piece.form = colon == inside.npos ? "" : std::string(inside.substr(colon + 1));
        const std::string_view names = inside.substr(0, colon);
        for (std::size_t from = 0; from <= names.size();) {
            const std::size_t bar = std::min(names.find('|', from), names.size());
            const std::string name(names.substr(from, bar - from));
            const Field* field = field_named(name);
            if (field == nullptr) return off(fmt::format("there is no field {{{}}}", name));
            DREDGER_CHECK(check_form(*field, piece.form));
            pattern.asks_content_ = pattern.asks_content_ || field->asks_content;
            pattern.keeps_extension_ = pattern.keeps_extension_ || name == "name" || name == "ext";
            piece.fields.push_back(name);
            from = bar + 1;
        }
        pattern.pieces_.push_back(std::move(piece));
        at = close;
    }
    if (!plain.empty()) pattern.pieces_.push_back({plain, {}, {}});
    return pattern;
}

std::string Pattern::path_for(const NameFacts& facts) const {
    std::string text;
    for (const Piece& piece : pieces_) {
        text += piece.text;
        for (const std::string& name : piece.fields) {
            const Field& field = *field_named(name);
            std::string value = field.value(facts, piece.form);
            if (value.empty()) continue;
            if (!field.may_hold_slashes) std::replace(value.begin(), value.end(), '/', '_');
            text += value;
            break;
        }
    }
    // Spaces beside what stayed empty are nobody's wish.
    std::string path;
    for (std::size_t from = 0; from <= text.size();) {
        const std::size_t slash = std::min(text.find('/', from), text.size());
        std::string part = text.substr(from, slash - from);
        part.erase(0, part.find_first_not_of(' '));
        while (part.ends_with(' ')) part.pop_back();
        if (!part.empty()) path += (path.empty() ? "" : "/") + part;
        from = slash + 1;
    }
    const std::string& original = facts.candidate->record.name;
    if (path.empty() || text.ends_with('/')) return joined(path, original);
    return keeps_extension_ ? path : path + stem_and_extension(original).second;
}

}  // namespace dredger
