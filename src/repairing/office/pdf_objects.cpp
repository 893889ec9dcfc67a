#include "repairing/office/pdf_objects.h"

#include <algorithm>
#include <charconv>

#include "formats/unpacking.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::size_t kMostObjects = 2 << 20;
constexpr std::size_t kLongestBody = 1 << 20;     // bytes of an object that is no stream, or of a dictionary
constexpr std::size_t kLargestPacked = 64 << 20;  // bytes of unpacked objects
constexpr std::uint64_t kLongestKeyword = 64;     // bytes that may lie between a stream's end and the keyword
constexpr unsigned kDeepest = 64;

bool is_space(char c) { return c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == '\f' || c == '\0'; }
bool is_digit(char c) { return c >= '0' && c <= '9'; }
bool is_delimiter(char c) { return "()<>[]{}/%"sv.find(c) != std::string_view::npos; }

// To the next thing that is neither white nor a comment (7.2.3, 7.2.4).
std::size_t skip_space(std::string_view text, std::size_t at) {
    while (at < text.size() && (is_space(text[at]) || text[at] == '%'))
        at = text[at] == '%' ? std::min(text.find_first_of("\r\n", at), text.size()) : at + 1;
    return at;
}

// Behind one object that begins at `at` (7.3); npos where it does not end.
std::size_t skip_object(std::string_view text, std::size_t at, unsigned depth = 0) {
    constexpr std::size_t kNone = std::string_view::npos;
    at = skip_space(text, at);
    if (at >= text.size() || depth > kDeepest) return kNone;
    if (text[at] == '(') {
        unsigned open = 0;
        for (; at < text.size(); ++at) {
            if (text[at] == '\\')
                ++at;
            else if (text[at] == '(')
                ++open;
            else if (text[at] == ')' && --open == 0)
                return at + 1;
        }
        return kNone;
    }
    const bool is_dictionary = text.substr(at).starts_with("<<");
    if (is_dictionary || text[at] == '[') {
        const std::string_view end = is_dictionary ? ">>"sv : "]"sv;
        at += end.size();
        for (;;) {
            at = skip_space(text, at);
            if (text.substr(std::min(at, text.size())).starts_with(end)) return at + end.size();
            const std::size_t next = skip_object(text, at, depth + 1);
            if (next == kNone || next <= at) return kNone;
            at = next;
        }
    }
    if (text[at] == '<') {
        const std::size_t end = text.find('>', at);
        return end == kNone ? kNone : end + 1;
    }
    if (text[at] == ')' || text[at] == '>' || text[at] == ']' || text[at] == '}' || text[at] == '{') return kNone;
    ++at;
    while (at < text.size() && !is_space(text[at]) && !is_delimiter(text[at])) ++at;
    return at;
}

std::optional<std::uint64_t> number_at(std::string_view text) {
    while (!text.empty() && is_space(text.front())) text.remove_prefix(1);
    std::uint64_t value = 0;
    const auto [end, failed] = std::from_chars(text.data(), text.data() + text.size(), value);
    return failed == std::errc() ? std::optional(value) : std::nullopt;
}

class Finder {
  public:
    explicit Finder(Reader& content) : content_(content) {}

    PdfObjects run() {
        for (std::uint64_t at = 0; found_.objects.size() < kMostObjects && !content_.budget().is_spent();) {
            const auto mark = content_.find("obj"sv, at, content_.size());
            take_trailers(at, mark.value_or(content_.size()));
            if (!mark) break;
            at = *mark + 3;
            if (const auto end = object_at(*mark)) at = std::max(at, *end);
        }
        for (const auto& [number, object] : found_.objects) {
            found_.repaired_lengths += object.had_right_length ? 0 : 1;
            found_.cut += object.is_cut ? 1 : 0;
        }
        return std::move(found_);
    }

  private:
    void take_trailers(std::uint64_t from, std::uint64_t to) {
        while (const auto mark = content_.find("trailer"sv, from, to)) {
            take_trailer(content_.text(*mark + 7, 4096));
            from = *mark + 7;
        }
    }
    void take_trailer(std::string_view dictionary) {
        for (const char* key : {"Root", "Info", "ID", "Encrypt"})
            if (std::string value = pdf_value(dictionary, key); !value.empty()) found_.trailer[key] = std::move(value);
    }

    // The object whose keyword stands at `mark`; where it ends, none where there is none.
    std::optional<std::uint64_t> object_at(std::uint64_t mark) {
        const std::uint64_t from = mark - std::min<std::uint64_t>(mark, 24);
        std::string before = content_.text(from, static_cast<std::size_t>(mark - from));
        const auto take_number = [&]() -> std::optional<unsigned> {
            while (!before.empty() && is_space(before.back())) before.pop_back();
            std::size_t start = before.size();
            while (start > 0 && is_digit(before[start - 1])) --start;
            if (start == before.size() || before.size() - start > 10) return std::nullopt;
            const auto value = number_at(std::string_view(before).substr(start));
            before.resize(start);
            return value && *value < kMostObjects * 16 ? std::optional(static_cast<unsigned>(*value)) : std::nullopt;
        };
        if (before.empty() || !is_space(before.back())) {
            if (before.empty() || !is_digit(before.back())) return std::nullopt;
        }
        const auto generation = take_number();
        if (!generation || before.empty() || !is_space(before.back())) return std::nullopt;
        const auto number = take_number();
        if (!number || *number == 0) return std::nullopt;

        PdfObject object;
        object.generation = *generation;
        const std::uint64_t start = mark + 3;
        std::string text = content_.text(start, 4096);
        std::size_t end = skip_object(text, 0);
        if (end == std::string::npos) {
            text = content_.text(start, kLongestBody);
            end = skip_object(text, 0);
        }
        if (end == std::string::npos) return std::nullopt;  // what of it stands can't be read
        // "7 0 R" and numbers: up to the keyword that ends it.
        if (!std::string_view(text).substr(0, end).ends_with(">>"))
            if (const std::size_t keyword = text.find("endobj"); keyword != std::string::npos && keyword < end + 64)
                end = keyword;
        object.body = text.substr(0, end);
        std::uint64_t at = start + end;
        while (content_.holds(at, 1) && is_space(static_cast<char>(content_.u8(at)))) ++at;
        if (content_.has(at, "stream"sv)) {
            object.is_stream = true;
            at = stream(object, at + 6);
            if (pdf_value(object.body, "Type") == "/XRef") {
                take_trailer(object.body);
                return at;
            }
            if (pdf_value(object.body, "Type") == "/ObjStm") {
                if (!found_.trailer.contains("Encrypt")) unpack(object);
                return at;
            }
        }
        found_.objects[*number] = std::move(object);
        return at;
    }

    // Where a stream's data ends: as long as it says where its end keyword stands there, else where the next one does.
    std::uint64_t stream(PdfObject& object, std::uint64_t at) {
        if (content_.has(at, "\r\n"sv))
            at += 2;
        else if (content_.has(at, "\n"sv) || content_.has(at, "\r"sv))
            ++at;
        object.data = {at, 0};
        const std::string said = pdf_value(object.body, "Length");
        const bool is_reference = said.find('R') != std::string::npos;
        const auto length = is_reference ? std::nullopt : number_at(said);
        if (length && content_.holds(at, *length)) {
            std::uint64_t end = at + *length;
            while (content_.holds(end, 1) && is_space(static_cast<char>(content_.u8(end))) && end < at + *length + 4)
                ++end;
            if (content_.has(end, "endstream"sv)) {
                object.data.length = *length;
                return end + 9;
            }
        }
        object.had_right_length = is_reference;
        const auto end = content_.find("endstream"sv, at, content_.size());
        // The next keyword is that of another stream where this one's was overwritten.
        if (length && content_.holds(at, *length) && (!end || *end > at + *length + kLongestKeyword)) {
            object.data.length = *length;
            object.had_right_length = true;
            return at + *length;
        }
        if (!end) {
            object.is_cut = true;
            object.data.length = content_.size() - std::min(at, content_.size());
            return content_.size();
        }
        object.data.length = *end - at;
        // The line end in front of the keyword is none of its bytes.
        if (content_.has(*end - 2, "\r\n"sv) && object.data.length >= 2)
            object.data.length -= 2;
        else if (object.data.length >= 1 && (content_.has(*end - 1, "\n"sv) || content_.has(*end - 1, "\r"sv)))
            --object.data.length;
        return *end + 9;
    }

    // Objects that are packed together (7.5.7) come out as what they are.
    void unpack(const PdfObject& packed) {
        const std::string filter = pdf_value(packed.body, "Filter");
        std::string bytes;
        if (filter.empty()) {
            bytes = content_.text(packed.data.offset,
                                  static_cast<std::size_t>(std::min<std::uint64_t>(packed.data.length, kLongestBody)));
        } else if (filter == "/FlateDecode" || filter == "[/FlateDecode]" || filter == "[ /FlateDecode ]") {
            bytes =
                formats::unpack(content_, Packing::zlib, packed.data.offset, packed.data.length, kLargestPacked).head;
        } else {
            return;
        }
        const std::uint64_t count = number_at(pdf_value(packed.body, "N")).value_or(0);
        const std::uint64_t first = number_at(pdf_value(packed.body, "First")).value_or(0);
        const std::string_view all = bytes;
        if (first > all.size() || count > kMostObjects) return;
        std::size_t at = 0;
        for (std::uint64_t i = 0; i < count; ++i) {
            std::uint64_t pair[2];
            for (std::uint64_t& value : pair) {
                while (at < first && is_space(all[at])) ++at;
                const auto read = number_at(all.substr(at, first - at));
                if (!read) return;
                value = *read;
                while (at < first && is_digit(all[at])) ++at;
            }
            const std::size_t start = static_cast<std::size_t>(first + pair[1]);
            if (pair[1] > all.size() - first || pair[0] == 0 || pair[0] > kMostObjects * 16) continue;
            const std::size_t end = skip_object(all, start);
            if (end == std::string_view::npos) continue;
            PdfObject object;
            object.body = all.substr(start, end - start);
            found_.objects[static_cast<unsigned>(pair[0])] = std::move(object);
            ++found_.unpacked;
        }
    }

    Reader& content_;
    PdfObjects found_;
};

}  // namespace

PdfObjects find_pdf_objects(Reader& content) { return Finder(content).run(); }

std::string pdf_value(std::string_view dictionary, std::string_view key) {
    std::size_t at = dictionary.find("<<");
    if (at == dictionary.npos) return {};
    at += 2;
    for (;;) {
        at = skip_space(dictionary, at);
        if (at >= dictionary.size() || dictionary[at] != '/') return {};
        const std::size_t name_end = skip_object(dictionary, at);
        if (name_end == dictionary.npos) return {};
        const std::string_view name = dictionary.substr(at + 1, name_end - at - 1);
        std::size_t end = skip_object(dictionary, name_end);
        if (end == dictionary.npos) return {};
        // A number may be the first of "7 0 R".
        const std::size_t start = skip_space(dictionary, name_end);
        if (is_digit(dictionary[start])) {
            const std::size_t second = skip_object(dictionary, end);
            const std::size_t third = second == dictionary.npos ? second : skip_object(dictionary, second);
            if (third != dictionary.npos &&
                dictionary.substr(second, third - second).find_first_not_of(" \r\n\t") != dictionary.npos &&
                dictionary.substr(0, third).ends_with("R") && third - second <= 4)
                end = third;
        }
        if (name == key) return std::string(dictionary.substr(start, end - start));
        at = end;
    }
}

std::vector<unsigned> pdf_references(std::string_view value) {
    std::vector<unsigned> numbers;
    std::vector<std::uint64_t> before;
    for (std::size_t at = 0; at < value.size();) {
        if (is_digit(value[at])) {
            const auto number = number_at(value.substr(at));
            before.push_back(number.value_or(0));
            while (at < value.size() && is_digit(value[at])) ++at;
        } else {
            if (value[at] == 'R' && before.size() >= 2)
                numbers.push_back(static_cast<unsigned>(before[before.size() - 2]));
            if (!is_space(value[at])) before.clear();
            ++at;
        }
    }
    return numbers;
}

}  // namespace dredger::repairing
