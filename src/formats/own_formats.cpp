#include "formats/own_formats.h"

#include <fmt/format.h>
#include <toml++/toml.h>

#include "base/text.h"

namespace dredger {
namespace {

constexpr std::size_t kLeastSignature = 3;    // bytes; fewer stand everywhere by chance
constexpr std::size_t kMaxSignature = 64;     // bytes
constexpr std::size_t kMaxOffset = 32 << 10;  // bytes
constexpr std::uint64_t kMaxSize = std::uint64_t{1} << 40;

// "4E 45 53 54" to bytes.
std::optional<std::string> from_hex(std::string_view text) {
    std::string bytes;
    int high = -1;
    for (const char c : text) {
        if (c == ' ') continue;
        const int digit = c >= '0' && c <= '9'   ? c - '0'
                          : c >= 'a' && c <= 'f' ? c - 'a' + 10
                          : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                                 : -1;
        if (digit < 0) return std::nullopt;
        if (high < 0) {
            high = digit;
        } else {
            bytes += static_cast<char>(high * 16 + digit);
            high = -1;
        }
    }
    return high < 0 ? std::optional(bytes) : std::nullopt;
}

struct Rule {
    std::string end;  // empty: none
    std::uint64_t most = 0;
};

Measured measure_by(Reader& content, const Rule& rule) {
    const std::uint64_t most = std::min(rule.most, content.size());
    if (rule.end.empty()) return open_ended(most, Proof::none);
    const auto mark = content.find(rule.end, 1, most);
    return mark ? whole(*mark + rule.end.size(), Proof::length) : nonsense();
}

}  // namespace

Result<OwnFormats> OwnFormats::read(const std::filesystem::path& file) {
    std::error_code failed;
    if (!std::filesystem::exists(file, failed))
        return fail(ErrorKind::usage, "no such file", file.string(), "docs/formats.md has an example");
    toml::table table;
    try {
        table = toml::parse_file(file.string());
    } catch (const toml::parse_error& error) {
        return fail(ErrorKind::usage, std::string(error.description()),
                    fmt::format("{}, line {}", file.string(), error.source().begin.line),
                    "docs/formats.md has an example");
    }
    OwnFormats own;
    const toml::array* list = table["format"].as_array();
    if (list == nullptr || list->empty())
        return fail(ErrorKind::usage, "there is no [[format]] in it", file.string(), "docs/formats.md has an example");
    for (const toml::node& node : *list) {
        const auto wrong = [&](std::string what) {
            return fail(ErrorKind::usage, std::move(what),
                        fmt::format("{}, line {}", file.string(), node.source().begin.line),
                        "docs/formats.md has an example");
        };
        const toml::table* one = node.as_table();
        if (one == nullptr) return wrong("a [[format]] is a table");
        const auto bytes_of = [&](const char* key) -> std::optional<std::string> {
            if (auto text = (*one)[key].value<std::string>()) return text;
            const auto hex = (*one)[fmt::format("{}-hex", key)].value<std::string>();
            return hex ? from_hex(*hex) : std::nullopt;
        };
        const auto name = (*one)["name"].value<std::string>();
        if (!name || name->empty() || folded(*name) != *name) return wrong("a format needs a name in lower case");
        if (format_named(*name) != nullptr)
            return wrong(fmt::format("{} is the name of a format that is known already", *name));
        const auto kind = kind_from_word((*one)["kind"].value_or(std::string("other")));
        if (!kind) return wrong(fmt::format("{} is no kind", (*one)["kind"].value_or(std::string())));
        const auto signature = bytes_of("signature");
        if (!signature || signature->size() < kLeastSignature || signature->size() > kMaxSignature)
            return wrong(
                fmt::format("a signature has {} to {} bytes: signature = \"...\" or signature-hex = \"4e 45 ...\"",
                            kLeastSignature, kMaxSignature));
        const auto offset = (*one)["offset"].value_or(std::int64_t{0});
        if (offset < 0 || offset > static_cast<std::int64_t>(kMaxOffset))
            return wrong(fmt::format("offset is 0 to {}", kMaxOffset));
        Rule rule;
        rule.end = bytes_of("end").value_or("");
        if (rule.end.size() > kMaxSignature)
            return wrong(fmt::format("an end mark has at most {} bytes", kMaxSignature));
        const auto most = (*one)["most-bytes"].value_or(std::int64_t{0});
        if (most <= 0 || static_cast<std::uint64_t>(most) > kMaxSize)
            return wrong("most-bytes, the largest size, is missing");
        rule.most = static_cast<std::uint64_t>(most);

        Format format;
        format.name = own.keep(*name);
        format.kind = *kind;
        format.extensions = {own.keep(folded((*one)["extension"].value_or(*name)))};
        format.signatures = {{{static_cast<std::size_t>(offset), own.keep(*signature)}}};
        format.ending = rule.end.empty() ? "its size limit" : "its end mark";
        format.checked = "nothing";
        format.measure = [rule](Reader& content) { return measure_by(content, rule); };
        own.formats_.push_back(std::move(format));
    }
    return own;
}

}  // namespace dredger
