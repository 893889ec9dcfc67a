#include "versions/life.h"

#include <algorithm>
#include <fmt/format.h>
#include <unordered_map>

#include "base/text.h"
#include "lives/vim_swap.h"
#include "media/content.h"
#include "media/medium_sum.h"
#include "preview/searching.h"

namespace dredger::versions {
namespace {

constexpr std::uint64_t kMostCompared = 256 << 20;  // bytes of a life that is compared
constexpr std::size_t kMostText = 4 << 20;          // bytes of text whose words are counted

// How often each word stands in a text.
using Words = std::unordered_map<std::string, std::int64_t>;

Words words_in(std::string_view text) {
    constexpr std::string_view kBetween = " \t\r\n\f\v";
    Words words;
    for (std::size_t at = text.find_first_not_of(kBetween); at != text.npos;
         at = text.find_first_not_of(kBetween, at)) {
        const std::size_t end = std::min(text.find_first_of(kBetween, at), text.size());
        ++words[std::string(text.substr(at, end - at))];
        at = end;
    }
    return words;
}

// Characters and what stands between them.
bool is_text(std::string_view bytes) {
    return std::none_of(bytes.begin(), bytes.end(),
                        [](char c) {
                            return static_cast<unsigned char>(c) < ' ' && c != '\n' && c != '\r' && c != '\t' &&
                                   c != '\f';
                        }) &&
           valid_utf8(bytes) == bytes;
}

class Reading {
  public:
    Reading(const std::map<std::int64_t, MediumPtr>& media, Observer& observer) : media_(media), observer_(observer) {}

    // What there is of it as the document was; null where it can't be read or is too much to.
    MediumPtr content_of(const Candidate& candidate) const {
        const auto medium = media_.find(candidate.volume);
        if (medium == media_.end() || candidate.layout.empty() || candidate.record.size > kMostCompared ||
            candidate.prospect.band == Band::gone || observer_.should_stop())
            return nullptr;
        MediumPtr content = open_content(medium->second, candidate.layout, candidate.record.size);
        if (candidate.copy.role == Role::swap)
            if (auto text = lives::document_in_swap(*content)) return text;
        return content;
    }

    static std::optional<Words> words_of(const Medium& content, const Candidate& candidate) {
        std::string text = preview::document_text(content, candidate.format, kMostText);
        if (text.empty()) {
            if (content.size() > kMostText) return std::nullopt;
            const auto bytes = content.bytes(0, static_cast<std::size_t>(content.size()));
            if (!bytes) return std::nullopt;
            text.assign(reinterpret_cast<const char*>(bytes->data()), bytes->size());
            if (!is_text(text)) return std::nullopt;
        }
        return words_in(text);
    }

  private:
    const std::map<std::int64_t, MediumPtr>& media_;
    Observer& observer_;
};

Life::Change change_between(const Words* now, const Words* before, std::uint64_t size, std::uint64_t size_before) {
    Life::Change change;
    change.bytes = static_cast<std::int64_t>(size) - static_cast<std::int64_t>(size_before);
    if (now == nullptr || before == nullptr) return change;
    change.words_added = change.words_removed = 0;
    const auto count_more = [](const Words& one, const Words& other) {
        std::uint64_t sum = 0;
        for (const auto& [word, count] : one) {
            const auto there = other.find(word);
            sum += static_cast<std::uint64_t>(
                std::max<std::int64_t>(0, count - (there == other.end() ? 0 : there->second)));
        }
        return sum;
    };
    change.words_added = count_more(*now, *before);
    change.words_removed = count_more(*before, *now);
    return change;
}

void compare(std::vector<Life>& lives, const Reading& reading, Observer& observer) {
    std::vector<std::optional<Words>> words(lives.size());
    std::vector<std::uint64_t> sizes(lives.size());
    std::map<std::string, std::int64_t> known;  // digest to the newest life with these bytes
    for (std::size_t n = 0; n < lives.size(); ++n) {
        Life& life = lives[n];
        sizes[n] = life.candidate.record.size;
        observer.progress({"comparing", n, lives.size(), "lives", 0, {}});
        const MediumPtr content = reading.content_of(life.candidate);
        if (content == nullptr) continue;
        sizes[n] = content->size();
        if (const auto digest = sha256_of(*content, content->size())) {
            const auto [first, is_new] = known.try_emplace(*digest, life.candidate.id);
            if (!is_new) {
                life.same_as = first->second;
                continue;
            }
        }
        words[n] = Reading::words_of(*content, life.candidate);
    }
    for (std::size_t n = 0; n + 1 < lives.size(); ++n) {
        if (lives[n].same_as != 0) continue;
        std::size_t older = n + 1;
        while (older < lives.size() && lives[older].same_as != 0) ++older;
        if (older == lives.size()) break;
        lives[n].change = change_between(words[n] ? &*words[n] : nullptr, words[older] ? &*words[older] : nullptr,
                                         sizes[n], sizes[older]);
    }
}

}  // namespace

std::string words_of(const Candidate& candidate) {
    constexpr std::string_view kStates[] = {"as it is now", "deleted", "in the bin", "lost"};
    const auto state = static_cast<std::size_t>(candidate.record.state);
    if (candidate.copy.role == Role::none) return std::string(kStates[state]);
    std::string words(word_for(candidate.copy.role));
    return candidate.record.state == State::live ? words : fmt::format("{}, {}", words, kStates[state]);
}

Result<Lives> lives_of(const Catalog& catalog, const std::string& path, const std::map<std::int64_t, MediumPtr>& media,
                       Observer& observer) {
    Lives all;
    all.path = path;
    DREDGER_TRY(std::vector<Candidate> found, catalog.of_path(path));
    std::erase_if(found, [](const Candidate& c) { return c.copy.role != Role::none; });
    DREDGER_TRY(const std::vector<Candidate> copies, catalog.copies_of(path));
    found.insert(found.end(), copies.begin(), copies.end());
    for (const Candidate& row : found) {
        DREDGER_TRY(auto candidate, catalog.find(row.id));
        if (!candidate) continue;
        if (!is_state_of_document(candidate->copy.role)) {
            all.notes.push_back(std::move(*candidate));
            continue;
        }
        Life life;
        life.when = candidate->copy.as_of ? candidate->copy.as_of : candidate->record.modified;
        life.candidate = std::move(*candidate);
        all.lives.push_back(std::move(life));
    }
    // What is there now stands first, whatever its date; of one time the document itself before its copies.
    std::stable_sort(all.lives.begin(), all.lives.end(), [](const Life& a, const Life& b) {
        const auto rank = [](const Life& life) {
            const bool is_now = life.candidate.copy.role == Role::none && life.candidate.record.state == State::live;
            return std::tuple(is_now, life.when.has_value(), life.when.value_or(FileTime{}),
                              life.candidate.copy.role == Role::none);
        };
        return rank(a) > rank(b);
    });
    compare(all.lives, Reading(media, observer), observer);
    return all;
}

}  // namespace dredger::versions
