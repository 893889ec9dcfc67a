// PDF: ISO 32000-1, with its tables of objects (7.5.4), tables in streams (7.5.8), updates (7.5.6) and linearised files
// (annex F).
#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <set>

#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/characters.h"
#include "formats/dates.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kMaxObjects = 2 << 20;
constexpr unsigned kMaxUpdates = 512;
constexpr std::uint64_t kFurthestEnd = std::uint64_t{256} << 20;  // how far the end of a file is looked for, bytes
constexpr std::size_t kMaxTable = 64 << 20;                       // bytes of an unpacked table

// The number behind `key` of a dictionary.
std::optional<std::uint64_t> value_of(std::string_view dictionary, std::string_view key) {
    for (std::size_t at = dictionary.find(key); at != std::string_view::npos; at = dictionary.find(key, at + 1)) {
        const std::string_view behind = dictionary.substr(at + key.size());
        if (behind.empty() || (std::isalnum(static_cast<unsigned char>(behind.front())) != 0)) continue;
        const auto value = number_in(behind);
        // "7 0 R" points to an object that holds the number.
        if (value) {
            const std::size_t end = behind.find_first_not_of(" \r\n\t0123456789");
            if (end != std::string_view::npos && behind[end] == 'R' &&
                behind.substr(0, end).find_last_of("0123456789") != std::string_view::npos &&
                behind.substr(0, end).find(' ', 1) != std::string_view::npos)
                return std::nullopt;
        }
        return value;
    }
    return std::nullopt;
}

class Document {
  public:
    explicit Document(Reader& content, const PartSink& parts = {}) : content_(content), parts_(parts) {}

    Measured measure() {
        const std::string head = content_.text(0, 1024);
        if (!head.starts_with("%PDF-") || head.size() < 20) return nonsense();
        const std::uint64_t length = linear_length();
        if (length > 64 && content_.holds(0, length) && content_.find("%%EOF", length - 64, length))
            if (const Measured end = judged(length); end.is_whole()) return with_updates(end);
        return last_valid_end();
    }

    std::vector<std::uint64_t> gaps() {
        constexpr unsigned kMaxMarks = 16;
        std::vector<std::uint64_t> found;
        const std::uint64_t limit = std::min(content_.size(), kFurthestEnd);
        std::uint64_t at = 0;
        for (unsigned n = 0; n < kMaxMarks; ++n) {
            const auto mark = content_.find("%%EOF", at, limit);
            if (!mark) break;
            if (const auto gap = gap_before(*mark)) found.push_back(*gap);
            for (std::uint64_t ending = 5; linear_length() > 5 && ending <= 7; ++ending)
                if (*mark + ending > linear_length()) found.push_back(*mark + ending - linear_length());
            at = *mark + 5;
        }
        return found;
    }

  private:
    // The length that a linearised file tells in its first object; 0 for any other.
    std::uint64_t linear_length() {
        const std::string head = content_.text(0, 1024);
        const std::size_t linear = head.find("/Linearized");
        if (linear == std::string::npos) return 0;
        const std::size_t object = head.rfind("obj", linear);
        return value_of(std::string_view(head).substr(object == std::string::npos ? 0 : object), "/L").value_or(0);
    }

    // The next end mark, unless another file begins at a sector before it.
    std::optional<std::uint64_t> next_mark(std::uint64_t from, std::uint64_t limit) {
        constexpr std::uint64_t kStep = 1 << 20;  // bytes: another file, or the mark, mostly is not far
        for (std::uint64_t at = from; at < limit; at += kStep) {
            const std::uint64_t end = std::min(at + kStep, limit);
            const auto mark = content_.find("%%EOF", at, std::min(end + 4, limit));
            if (another_begins(at, mark.value_or(end))) return std::nullopt;
            if (mark) return mark;
        }
        return std::nullopt;
    }

    bool another_begins(std::uint64_t from, std::uint64_t to) {
        constexpr std::uint64_t kSector = 512;
        for (std::uint64_t at = std::max(from, kSector); at < to;) {
            const auto next = content_.find("%PDF-", at, std::min(to + 4, content_.size()));
            if (!next || *next % kSector == 0) return next.has_value();
            at = *next + 5;
        }
        return false;
    }

    // The end marks, one after the other: the last one whose table holds is the end.
    Measured last_valid_end() {
        Measured best;
        std::uint64_t from = 0;
        const std::uint64_t limit = std::min(content_.size(), kFurthestEnd);
        unsigned marks = 0;
        while (const auto mark = next_mark(from, limit)) {
            // What another file begins with lies between: it is not ours.
            if (content_.find("%PDF-", std::max<std::uint64_t>(from, 5), *mark) && from > 0 && best.is_whole()) break;
            from = *mark + 5;
            const Measured here = judged(from);
            const bool is_further = here.end == Measured::End::broken && !best.is_whole() && here.length >= best.length;
            if (here.is_whole() || is_further) best = here;
            if (++marks >= kMaxUpdates) break;
            // An update begins right behind the mark; anything else is another file.
            if (best.is_whole() && !is_update(best.length)) break;
        }
        if (best.is_whole()) return is_torn_update(best.length) ? torn_update(best.length) : best;
        if (best.end == Measured::End::broken) return best;
        return has_objects() ? broken_between(512, std::min(objects_end_, content_.size()), "its end is missing")
                             : nonsense();
    }

    Measured with_updates(Measured end) {
        while (is_update(end.length)) {
            const auto mark = content_.find("%%EOF", end.length, std::min(content_.size(), end.length + (16 << 20)));
            if (!mark) break;
            const Measured next = judged(*mark + 5);
            if (!next.is_whole()) break;
            end = next;
        }
        return is_torn_update(end.length) ? torn_update(end.length) : end;
    }

    // What follows at the start of a sector may be a piece of another file.
    bool is_torn_update(std::uint64_t at) {
        constexpr std::uint64_t kSector = 512;
        return at % kSector != 0 && is_update(at);
    }

    // An update began behind a whole file: as far as its objects make sense.
    Measured torn_update(std::uint64_t at) {
        constexpr std::uint64_t kMostOfObject = 4 << 20;  // bytes
        constexpr std::string_view kTrouble = "an update behind its end is torn";
        bool all_checked = true;
        for (std::uint64_t n = 0; n < kMaxObjects && is_update(at) && content_.ok(); ++n) {
            while (is_space(content_.u8(at))) ++at;
            const std::uint64_t limit = std::min(content_.size(), at + kMostOfObject);
            const auto object_end = content_.find("endobj", at, limit);
            if (const auto trouble = check_stream(at, object_end.value_or(limit), all_checked))
                return broken_between(at, *trouble, kTrouble);
            if (!object_end) return broken_between(at, std::max(at + 1, checked_to_), kTrouble);
            at = *object_end + std::string_view("endobj").size();
        }
        return broken_between(at, std::max(at + 1, end_of_characters(content_, at)), kTrouble);
    }

    bool is_update(std::uint64_t at) {
        const std::string next = content_.text(at, 64);
        const std::size_t start = next.find_first_not_of("\r\n \t");
        return start != std::string::npos && std::isdigit(static_cast<unsigned char>(next[start])) != 0 &&
               next.find(" obj") != std::string::npos;
    }

    // Where the last table before `mark` says it stands, and where it does.
    std::optional<std::uint64_t> gap_before(std::uint64_t mark) {
        const std::uint64_t from = mark - std::min<std::uint64_t>(mark, 2048);
        const auto start = content_.find_last("startxref", from, mark);
        const auto said = start ? number_in(content_.text(*start + 9, 32)) : std::nullopt;
        if (!said || *said == 0) return std::nullopt;
        const std::uint64_t furthest = *start - std::min<std::uint64_t>(*start, 4 << 20);
        std::optional<std::uint64_t> found = content_.find_last("xref", furthest, *start);
        // "xref" also ends the word before.
        while (found && *found > 5 && content_.has(*found - 5, "start"))
            found = content_.find_last("xref", furthest, *found - 1);
        if (const auto packed = content_.find_last("/XRef", furthest, *start); packed && (!found || *packed > *found)) {
            const auto object = content_.find_last(" obj", *packed - std::min<std::uint64_t>(*packed, 1024), *packed);
            if (!object) return std::nullopt;
            found = *object;
            while (*found > 0 && content_.u8(*found - 1) > ' ') --*found;  // generation
            while (*found > 0 && content_.u8(*found - 1) == ' ') --*found;
            while (*found > 0 && content_.u8(*found - 1) >= '0' && content_.u8(*found - 1) <= '9') --*found;  // number
        }
        if (!found || *found <= *said) return std::nullopt;
        return *found - *said;
    }

    // Whether a file that ends with the mark before `mark_end` is whole.
    Measured judged(std::uint64_t mark_end) {
        std::uint64_t end = mark_end;
        if (content_.has(end, "\r")) ++end;
        if (content_.has(end, "\n")) ++end;
        const std::uint64_t from = mark_end > 2048 ? mark_end - 2048 : 0;
        const auto start = content_.find_last("startxref", from, mark_end);
        if (!start) return nonsense();
        const auto table = number_in(content_.text(*start + 9, 32));
        if (!table) return nonsense();
        seen_.clear();
        offsets_.clear();
        bad_ = 0;
        limit_ = end;
        if (!read_table(*table))
            return has_objects()
                       ? broken_between(512, std::min(objects_end_, end), "its table of objects is damaged", end)
                       : nonsense();
        if (offsets_.empty()) return nonsense();
        return check_objects(end, *table);
    }

    bool read_table(std::uint64_t at) {
        if (seen_.size() >= kMaxUpdates || !seen_.insert(at).second) return true;
        if (at >= limit_) return false;
        while (content_.u8(at) == ' ' || content_.u8(at) == '\r' || content_.u8(at) == '\n') ++at;
        return content_.has(at, "xref") ? read_plain_table(at + 4) : read_packed_table(at);
    }

    bool read_plain_table(std::uint64_t at) {
        for (;;) {
            std::string line = content_.text(at, 64);
            const std::size_t start = line.find_first_not_of("\r\n \t");
            if (start == std::string::npos) return false;
            at += start;
            line.erase(0, start);
            if (line.starts_with("trailer")) break;
            const auto first = number_in(line);
            const std::size_t gap = line.find(' ');
            if (!first || gap == std::string::npos) return false;
            const auto count = number_in(std::string_view(line).substr(gap));
            const std::size_t end = line.find_first_of("\r\n");
            if (!count || end == std::string::npos || *count > kMaxObjects) return false;
            at += line.find_first_not_of("\r\n \t", end) == std::string::npos ? end
                                                                              : line.find_first_not_of("\r\n \t", end);
            for (std::uint64_t i = 0; i < *count; ++i, at += 20) {
                const std::string entry = content_.text(at, 20);
                if (entry.size() < 18 || entry[10] != ' ' || (entry[17] != 'n' && entry[17] != 'f')) return false;
                if (entry[17] == 'n') add(*first + i, number_in(entry).value_or(0));
            }
        }
        return follow(content_.text(at, 4096));
    }

    bool read_packed_table(std::uint64_t at) {
        const std::string dictionary = content_.text(at, 4096);
        const std::size_t end = dictionary.find("stream");
        if (end == std::string::npos || dictionary.find("/XRef") > end) return false;
        const std::string_view words = std::string_view(dictionary).substr(0, end);
        const std::size_t widths_at = words.find("/W");
        const std::size_t open = words.find('[', widths_at);
        if (widths_at == std::string_view::npos || open == std::string_view::npos) return false;
        std::array<std::size_t, 3> width{};
        std::size_t p = open + 1;
        for (auto& w : width) {
            const auto value = number_in(words.substr(p));
            if (!value || *value > 8) return false;
            w = static_cast<std::size_t>(*value);
            p = words.find_first_of("0123456789", p);
            p = words.find_first_not_of("0123456789", p);
            if (p == std::string_view::npos) return false;
        }
        const std::size_t row = width[0] + width[1] + width[2];
        if (row == 0) return false;
        std::uint64_t data = at + end + 6;
        if (content_.u8(data) == '\r') ++data;
        if (content_.u8(data) == '\n') ++data;
        std::string table;
        if (words.find("/FlateDecode") != std::string_view::npos) {
            const Unpacked unpacked = unpack(content_, Packing::zlib, data, limit_ - data, kMaxTable);
            if (!unpacked.ended()) return false;
            table = unpacked.head;
        } else {
            table = content_.text(data, static_cast<std::size_t>(
                                            std::min<std::uint64_t>(value_of(words, "/Length").value_or(0), 1 << 20)));
        }
        if (value_of(words, "/Predictor").value_or(1) >= 10) table = unpredicted(table, row);
        std::vector<std::pair<std::uint64_t, std::uint64_t>> sections;
        if (const std::size_t index = words.find("/Index"); index != std::string_view::npos) {
            std::size_t q = words.find('[', index);
            const std::size_t close = words.find(']', index);
            while (q != std::string_view::npos && q < close) {
                const auto first = number_in(words.substr(q + 1));
                q = words.find_first_of("0123456789", q + 1);
                q = q == std::string_view::npos ? q : words.find_first_not_of("0123456789", q);
                if (!first || q == std::string_view::npos || q > close) break;
                const auto count = number_in(words.substr(q));
                q = words.find_first_of("0123456789", q);
                q = q == std::string_view::npos ? q : words.find_first_not_of("0123456789", q);
                if (!count || q == std::string_view::npos) break;
                sections.emplace_back(*first, *count);
                if (q >= close || words.find_first_of("0123456789", q) > close) break;
                --q;
            }
        } else {
            sections.emplace_back(0, value_of(words, "/Size").value_or(0));
        }
        std::size_t r = 0;
        for (const auto& [first, count] : sections) {
            for (std::uint64_t i = 0; i < count && (r + 1) * row <= table.size(); ++i, ++r) {
                const auto field = [&](std::size_t skip, std::size_t n) {
                    std::uint64_t value = 0;
                    for (std::size_t b = 0; b < n; ++b)
                        value = value << 8 | static_cast<unsigned char>(table[r * row + skip + b]);
                    return value;
                };
                const std::uint64_t type = width[0] == 0 ? 1 : field(0, width[0]);
                if (type == 1) add(first + i, field(width[0], width[1]));
            }
        }
        return follow(words);
    }

    // PNG's "up" filter and its kin (ISO 32000-1, 7.4.4.4).
    static std::string unpredicted(const std::string& packed, std::size_t row) {
        std::string out;
        std::string before(row, '\0');
        for (std::size_t at = 0; row > 0 && at + 1 + row <= packed.size(); at += 1 + row) {
            std::string line = packed.substr(at + 1, row);
            for (std::size_t i = 0; i < row; ++i) {
                const auto up = static_cast<unsigned char>(before[i]);
                const auto left = static_cast<unsigned char>(i > 0 ? line[i - 1] : '\0');
                const unsigned add = packed[at] == 2 ? up : packed[at] == 1 ? left : 0;
                line[i] = static_cast<char>(static_cast<unsigned char>(line[i]) + add);
            }
            out += line;
            before = line;
        }
        return out;
    }

    bool follow(std::string_view dictionary) {
        const std::size_t end = std::min(dictionary.find("startxref"), dictionary.size());
        dictionary = dictionary.substr(0, end);
        if (const auto hybrid = value_of(dictionary, "/XRefStm"); hybrid && !read_table(*hybrid)) return false;
        const auto previous = value_of(dictionary, "/Prev");
        return !previous || *previous == 0 || read_table(*previous);
    }

    void add(std::uint64_t object, std::uint64_t offset) {
        if (offsets_.size() < kMaxObjects) offsets_.emplace_back(offset, object);
    }

    // An object must stand wherever the tables say so, and its stream must be whole.
    Measured check_objects(std::uint64_t end, std::uint64_t table) {
        std::sort(offsets_.begin(), offsets_.end());
        offsets_.erase(std::unique(offsets_.begin(), offsets_.end()), offsets_.end());
        std::uint64_t right = 0;
        std::uint64_t first_wrong = end;
        std::uint64_t last_right = 0;  // before that
        bool all_checked = true;
        for (std::size_t i = 0; i < offsets_.size(); ++i) {
            const auto [offset, object] = offsets_[i];
            if (offset == 0) continue;
            const std::string head = content_.text(offset, 32);
            const auto number = offset < end ? number_in(head) : std::nullopt;
            const bool is_there = number && (*number == object || object == 0) && head.find("obj") != std::string::npos;
            if (!is_there) {
                // Objects that were freed are sometimes left in a table.
                first_wrong = std::min(first_wrong, std::min(offset, end));
                ++bad_;
                continue;
            }
            ++right;
            if (offset < first_wrong) last_right = offset;
            if (first_wrong < offset && first_wrong != end) continue;
            const std::uint64_t next = i + 1 < offsets_.size() ? offsets_[i + 1].first : end;
            const auto broken_at = check_stream(offset, std::min(next, end), all_checked);
            all_checked = all_checked && is_followed_well(std::max(offset, checked_to_), std::min(next, end));
            if (parts_.is_wanted())
                parts_.tell({"object",
                             fmt::format("{}", *number),
                             {{offset, std::min(next, end) - offset}},
                             Packing::none,
                             std::min(next, end) - offset,
                             broken_at ? Part::Check::wrong : Part::Check::none});
            if (broken_at) {
                first_wrong = std::min(first_wrong, *broken_at);
                ++bad_;
            }
        }
        if (right == 0) return nonsense();
        if (bad_ > 0) {
            Measured found = broken_between(last_right, first_wrong, "an object is not where its table says", end);
            // Where the table stands behind it, and where it should, nothing before it is missing or too much.
            found.has_its_end = table > first_wrong;
            return found;
        }
        return whole(end, all_checked ? Proof::checksums : Proof::chain);
    }

    // Where a stream between `at` and the next object stops making sense; nothing where it is fine.
    std::optional<std::uint64_t> check_stream(std::uint64_t at, std::uint64_t next, bool& checked) {
        const std::string head =
            content_.text(at, static_cast<std::size_t>(std::min<std::uint64_t>(next - std::min(at, next), 4096)));
        const std::size_t stream = head.find("stream");
        const std::size_t end_of_object = head.find("endobj");
        if (stream == std::string::npos || end_of_object < stream) {
            // Nothing but words: one that does not end, or holds other bytes, was not checked.
            const auto object_end = content_.find("endobj", at, next);
            checked = checked && object_end && !content_.find("\0"sv, at, *object_end);
            return std::nullopt;
        }
        const std::string_view words = std::string_view(head).substr(0, stream);
        std::uint64_t data = at + stream + 6;
        if (content_.u8(data) == '\r') ++data;
        if (content_.u8(data) == '\n') ++data;
        const auto length = value_of(words, "/Length");
        const bool fits = !length || content_.text(data + *length, 16).find("endstream") != std::string::npos;
        const auto trouble = fits ? std::nullopt : std::optional(data);
        const std::size_t filter = words.find("/Filter");
        const auto first_filter = [&](std::string_view name) {
            return filter != std::string_view::npos && words.substr(filter, 20).find(name) != std::string_view::npos;
        };
        const bool is_readable = words.find("/Crypt") == std::string_view::npos && !is_encrypted();
        // Decoding tells best where it goes wrong.
        if (is_readable && first_filter("/DCTDecode")) {
            Reader picture = content_.within(data);
            const Measured found = dredger::measure(jpeg().front(), picture);
            if (found.end == Measured::End::broken) return data + found.sure;
            checked_to_ = data + found.length;
            return found.is_file() && data + found.length <= next ? trouble : std::optional(data);
        }
        if (is_readable && first_filter("/FlateDecode")) {
            const Unpacked unpacked = unpack(content_, Packing::zlib, data, next - data);
            checked_to_ = data + unpacked.packed;
            return unpacked.ended() ? trouble : std::optional(data + unpacked.packed);
        }
        checked = checked && length && *length < 512;
        checked_to_ = data + (fits ? length.value_or(0) : 0);
        return trouble;
    }

    // Whether nothing stands between an object and the next that the tables tell of, but what belongs there: tables,
    // their ends, and remarks.
    bool is_followed_well(std::uint64_t at, std::uint64_t next) {
        const auto object_end = content_.find("endobj", at, next);
        if (!object_end) return false;
        std::uint64_t from = *object_end + 6;
        while (from < next && (is_space(content_.u8(from)) || content_.u8(from) == 0)) ++from;
        if (from >= next) return true;
        constexpr std::string_view kWords[] = {"xref", "startxref", "trailer", "%"};
        const bool is_known = std::any_of(std::begin(kWords), std::end(kWords),
                                          [&](std::string_view word) { return content_.has(from, word); });
        bool are_characters = is_known;
        each_span(content_, from, is_known ? next - from : 0, [&](std::span<const std::byte> bytes) {
            are_characters = are_characters && std::none_of(bytes.begin(), bytes.end(), is_control);
        });
        return are_characters;
    }

    bool is_encrypted() {
        if (!encrypted_) {
            const std::uint64_t from = limit_ > 4096 ? limit_ - 4096 : 0;
            encrypted_ = content_.find("/Encrypt", from, limit_).has_value() ||
                         content_.find("/Encrypt", 0, std::min<std::uint64_t>(limit_, 4096)).has_value();
        }
        return *encrypted_;
    }

    // Objects from the start on, as far as they follow each other: what can be had of a file whose end is lost.
    bool has_objects() {
        if (objects_end_ != 0) return objects_end_ > 1024;
        std::uint64_t at = 8;
        unsigned objects = 0;
        while (const auto end = content_.find("endobj", at, std::min(content_.size(), at + (4 << 20)))) {
            const std::string between = content_.text(at, 512);
            if (between.find(" obj") == std::string::npos) break;
            at = *end + 6;
            ++objects;
        }
        objects_end_ = objects >= 2 ? at : 1;
        return objects_end_ > 1024;
    }

    Reader& content_;
    PartTeller parts_;
    std::set<std::uint64_t> seen_;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> offsets_;  // and numbers of objects
    std::uint64_t limit_ = 0;
    std::uint64_t objects_end_ = 0;
    std::uint64_t checked_to_ = 0;  // where the data of the stream ends that was looked at last
    unsigned bad_ = 0;
    std::optional<bool> encrypted_;
};

Measured take_pdf_apart(Reader& content, const PartSink& parts) { return Document(content, parts).measure(); }

std::vector<std::uint64_t> gaps_of_pdf(Reader& content, const Measured&) { return Document(content).gaps(); }

// A string as it is written, in parentheses or in hexadecimal digits (7.3.4).
std::string string_in(std::string_view text) {
    std::string value;
    const std::size_t open = text.find_first_not_of(" \r\n");
    if (open == std::string_view::npos) return value;
    if (text[open] == '(') {
        for (std::size_t i = open + 1; i < text.size() && text[i] != ')'; ++i)
            value += text[i] == '\\' && i + 1 < text.size() ? text[++i] : text[i];
    } else if (text[open] == '<') {
        for (std::size_t i = open + 1; i + 1 < text.size() && text[i] != '>'; i += 2) {
            unsigned byte = 0;
            if (std::from_chars(&text[i], &text[i] + 2, byte, 16).ptr != &text[i] + 2) return {};
            value += static_cast<char>(byte);
        }
    }
    return value;
}

// The document's information (14.3.3), where its object is not packed with others; empty: there is none. A bookmark has
// a title, too.
std::string information_of(Reader& content, std::uint64_t length) {
    constexpr std::string_view kInfo = "/Info";
    constexpr std::size_t kLongest = 4096;  // bytes
    const auto at = content.find_last(kInfo, length > (1 << 20) ? length - (1 << 20) : 0, length);
    if (!at) return {};
    const std::string reference = content.text(*at + kInfo.size(), 16);
    const std::size_t digits = std::min(reference.find_first_not_of(" \r\n"), reference.size());
    unsigned number = 0;
    const char* const end = reference.data() + reference.size();
    if (std::from_chars(reference.data() + digits, end, number).ec != std::errc()) return {};
    for (const char* before : {"\n", "\r"}) {
        const std::string object = fmt::format("{}{} 0 obj", before, number);
        const auto start = content.find_last(object, 0, length);
        if (!start) continue;
        const std::string text = content.text(*start + object.size(), kLongest);
        return text.substr(0, text.find("endobj"));
    }
    return {};
}

// The text behind a key (7.9.2).
std::string text_behind(std::string_view dictionary, std::string_view key) {
    const std::size_t at = dictionary.find(key);
    if (at == std::string_view::npos) return {};
    std::string value = string_in(dictionary.substr(at + key.size()));
    if (!value.starts_with("\xFE\xFF"))
        return code_page_to_utf8(std::as_bytes(std::span(value)), CodePage::windows1252);
    value.erase(0, 2);
    for (std::size_t i = 0; i + 1 < value.size(); i += 2) std::swap(value[i], value[i + 1]);
    return utf16le_to_utf8(std::as_bytes(std::span(value)));
}

Description describe_pdf(Reader& content, std::uint64_t length) {
    Description said;
    const std::string information = information_of(content, length);
    said.title = printable(text_behind(information, "/Title"));
    said.date = pdf_date(text_behind(information, "/ModDate"));
    if (!said.date) said.date = pdf_date(text_behind(information, "/CreationDate"));
    return said;
}

}  // namespace

const std::vector<Format>& pdf() {
    static const std::vector<Format> family = {
        {.name = "pdf",
         .kind = Kind::document,
         .extensions = {"pdf", "ai"},
         .signatures = {{{0, "%PDF-"sv}}},
         .measure = measure_by<take_pdf_apart>,
         .take_apart = take_pdf_apart,
         .gaps = gaps_of_pdf,
         .describe = describe_pdf,
         .ending = "the last end mark whose table holds",
         .checked = "every object of the table, packed streams"},
    };
    return family;
}

}  // namespace dredger::formats
