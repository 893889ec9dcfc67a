#include "lives/pattern.h"

#include <algorithm>
#include <array>

#include "base/text.h"

namespace dredger::lives {
namespace {

char lower(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c; }
constexpr std::size_t kHexDigits = 8;
constexpr unsigned kMostSteps = 20'000;  // of a match: hostile names could take any number

bool is_digit(char c) { return c >= '0' && c <= '9'; }
bool is_word(char c) { return is_digit(c) || (lower(c) >= 'a' && lower(c) <= 'z'); }

bool stands_at(std::string_view text, std::size_t at, std::string_view literal) {
    if (literal.size() > text.size() - at) return false;
    for (std::size_t i = 0; i < literal.size(); ++i)
        if (lower(text[at + i]) != lower(literal[i])) return false;
    return true;
}

bool has(std::string_view text, std::string_view literal) {
    if (literal.empty()) return true;
    const char first = lower(literal.front());
    for (std::size_t at = 0; at + literal.size() <= text.size(); ++at)
        if (lower(text[at]) == first && stands_at(text, at, literal)) return true;
    return false;
}

// Up to `most` digits as a number, and how many there were.
std::pair<int, std::size_t> number_at(std::string_view text, std::size_t at, std::size_t most) {
    int value = 0;
    std::size_t count = 0;
    while (count < most && at + count < text.size() && is_digit(text[at + count]))
        value = value * 10 + (text[at + count++] - '0');
    return {value, count};
}

// "!home!wren!May.txt" to a folder and a name.
void decode(std::string path, char sign, Captured& captured) {
    std::replace(path.begin(), path.end(), sign, '/');
    path.erase(0, path.find_first_not_of('/'));
    const auto [folder, name] = split_path(path);
    captured.path = folder;
    captured.name = name;
}

}  // namespace

std::optional<DateInName> date_at_start(std::string_view text) {
    constexpr std::string_view kBetween = "-_.: T";
    std::array<int, 6> parts = {0, 1, 1, 0, 0, 0};
    std::size_t at = 0, known = 0, told_to = 0;
    for (std::size_t part = 0; part < parts.size(); ++part) {
        std::size_t from = at;
        if (part > 0 && from < text.size() && kBetween.find(text[from]) != kBetween.npos) ++from;
        const std::size_t digits = part == 0 ? 4 : 2;
        const auto [value, count] = number_at(text, from, digits);
        if (count != digits) break;
        parts[part] = value;
        at = from + digits;
        known = part + 1;
        if (known == 3 || known >= 5) told_to = at;
    }
    if (known == 4) known = 3;  // an hour alone is something else
    if (known < 3) return std::nullopt;
    if (known == 3) parts[3] = parts[4] = 0;
    if (known < 6) parts[5] = 0;
    // What goes on with digits is a longer number.
    if (told_to < text.size() && is_digit(text[told_to])) return std::nullopt;
    const bool right = parts[0] >= 1980 && parts[0] < 2100 && parts[1] >= 1 && parts[1] <= 12 && parts[2] >= 1 &&
                       parts[2] <= 31 && parts[3] < 24 && parts[4] < 60 && parts[5] < 60;
    if (!right) return std::nullopt;
    const auto day = fat_time(static_cast<std::uint16_t>((parts[0] - 1980) << 9 | parts[1] << 5 | parts[2]));
    if (!day) return std::nullopt;
    DateInName found{*day, told_to};
    found.time.seconds += parts[3] * 3600 + parts[4] * 60 + parts[5];
    for (const std::string_view mark : {" UTC", "UTC", "Z"})
        if (stands_at(text, told_to, mark)) {
            found.time.clock = FileTime::Clock::utc;
            found.length += mark.size();
            return found;
        }
    found.time.clock = FileTime::Clock::local;
    return found;
}

Pattern::Pattern(std::string_view text) {
    struct Word {
        std::string_view text;
        Place place;
    };
    constexpr Word kWords[] = {{"{name}", Place::name},   {"{stem}", Place::stem},     {"{tail}", Place::tail},
                               {"{path}", Place::path},   {"{ending}", Place::ending}, {"{n}", Place::digits},
                               {"{x}", Place::word},      {"{date}", Place::date},     {"{hex}", Place::hex},
                               {"{c}", Place::letter},    {"{x6}", Place::six},        {"{!path}", Place::coded},
                               {"{%path}", Place::coded}, {"*", Place::anything}};
    for (std::size_t at = 0; at < text.size();) {
        const auto* const word = std::find_if(std::begin(kWords), std::end(kWords),
                                              [&](const Word& w) { return text.substr(at).starts_with(w.text); });
        if (word != std::end(kWords)) {
            tokens_.push_back({word->place, word->place == Place::coded ? std::string(1, word->text[1]) : ""});
            at += word->text.size();
            continue;
        }
        add_literal(text[at++]);
    }
    for (const Token& token : tokens_)
        if (token.place == Place::literal && token.literal.size() > longest_.size()) longest_ = token.literal;
    for (const Token& token : tokens_)
        least_ += token.place == Place::literal    ? token.literal.size()
                  : token.place == Place::anything ? 0
                  : token.place == Place::date     ? 8
                  : token.place == Place::hex      ? kHexDigits
                                                   : 1;
}

void Pattern::add_literal(char c) {
    if (tokens_.empty() || tokens_.back().place != Place::literal) tokens_.push_back({Place::literal, {}});
    tokens_.back().literal += c;
}

struct Pattern::Attempt {
    std::string_view text;
    Captured captured = {};
    unsigned steps = 0;
};

std::optional<Captured> Pattern::match(std::string_view text) const {
    if (text.size() < least_ || tokens_.empty()) return std::nullopt;
    const Token& last = tokens_.back();
    if (last.place == Place::literal && !stands_at(text, text.size() - last.literal.size(), last.literal))
        return std::nullopt;
    if (!has(text, longest_)) return std::nullopt;
    Attempt attempt{text};
    if (!match_from(attempt, 0, 0)) return std::nullopt;
    return std::move(attempt.captured);
}

bool Pattern::match_from(Attempt& attempt, std::size_t token, std::size_t at) const {
    if (++attempt.steps > kMostSteps) return false;
    return token == tokens_.size() ? at == attempt.text.size() : match_here(attempt, token, at);
}

bool Pattern::match_here(Attempt& attempt, std::size_t token, std::size_t at) const {
    const auto& [place, literal] = tokens_[token];
    const std::string_view text = attempt.text;
    if (place == Place::literal)
        return stands_at(text, at, literal) && match_from(attempt, token + 1, at + literal.size());
    if (place == Place::date) {
        const auto date = date_at_start(text.substr(at));
        if (!date || !match_from(attempt, token + 1, at + date->length)) return false;
        attempt.captured.date = date->time;
        return true;
    }
    const auto fits = [&](char c) {
        return place == Place::digits                        ? is_digit(c)
               : place == Place::word || place == Place::six ? is_word(c)
               : place == Place::letter                      ? is_word(c) && !is_digit(c)
               : place == Place::hex                         ? is_digit(c) || (lower(c) >= 'a' && lower(c) <= 'f')
                                                             : true;
    };
    std::size_t longest = 0;
    while (at + longest < text.size() && fits(text[at + longest])) ++longest;
    if (place == Place::letter) longest = std::min<std::size_t>(longest, 1);
    if (place == Place::six) return longest == 6 && match_from(attempt, token + 1, at + longest);
    if (place == Place::hex) return longest >= kHexDigits && match_from(attempt, token + 1, at + kHexDigits);
    const std::size_t least = place == Place::anything ? 0 : 1;
    // The longest first, but that what stands for anything leaves as much as it can to the others.
    for (std::size_t n = 0; least + n <= longest; ++n) {
        const std::size_t length = place == Place::anything ? least + n : longest - n;
        if (!match_from(attempt, token + 1, at + length)) continue;
        const std::string here(text.substr(at, length));
        switch (place) {
            case Place::name: attempt.captured.name = here; break;
            case Place::stem: attempt.captured.stem = here; break;
            case Place::tail: attempt.captured.tail = here; break;
            case Place::ending: attempt.captured.ending = here; break;
            case Place::path: attempt.captured.path = here; break;
            case Place::coded: decode(here, literal.front(), attempt.captured); break;
            default: break;
        }
        return true;
    }
    return false;
}

}  // namespace dredger::lives
