#include "preview/similar.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>

#include "base/amounts.h"
#include "base/text.h"
#include "media/content.h"
#include "preview/tile.h"

namespace dredger {
namespace {

constexpr int kBits = 64;
constexpr int kMaxDifferent = 10;        // bits, of pictures that look alike
constexpr int kMaxStep = 7;              // the same, of one picture of a series and the next
constexpr std::size_t kKeepEvery = 200;  // pictures that were looked at
constexpr unsigned kSameName = 1000;     // ranks behind every picture
constexpr unsigned kSharedBytes = 1001;

bool is_seen(const Candidate& c) { return c.kind == Kind::picture || c.kind == Kind::video; }

class Search {
  public:
    Search(Catalog& catalog, const std::map<std::int64_t, MediumPtr>& media, const Selection& among, Observer& observer)
        : catalog_(catalog), media_(media), among_(among), observer_(observer) {}

    Result<std::vector<Similar>> run(Candidate wanted) {
        DREDGER_TRY(const auto copies, catalog_.of_same_content(wanted));
        for (const Candidate& copy : copies) add(copy.id, 0, "the same content");
        if (is_seen(wanted)) {
            look_at(wanted);
            catalog_.keep(learnt_);
            if (wanted.likeness.value_or(0) != 0) DREDGER_CHECK(pictures(wanted));
        }
        DREDGER_TRY(const auto overlaps, catalog_.overlapping(wanted));
        std::map<std::int64_t, std::uint64_t> shared;
        for (const auto& overlap : overlaps) shared[overlap.candidate] += overlap.shared.length;
        for (const auto& [id, bytes] : shared)
            add(id, kSharedBytes, fmt::format("{} of it lie at the same place", size_text(bytes)));
        Selection namesakes = among_;
        namesakes.names = {escaped(wanted.record.name)};
        DREDGER_CHECK(catalog_.each(namesakes, {}, false, [&](const Candidate& c) {
            if (!c.record.is_folder) add(c.id, kSameName, "the same name");
            return true;
        }));
        found_.erase(wanted.id);
        return selected();
    }

  private:
    struct Seen {
        std::int64_t id;
        std::uint64_t likeness;
    };

    // The first reason is the best one.
    void add(std::int64_t id, unsigned rank, std::string why) { found_.emplace(id, Similar{id, rank, std::move(why)}); }

    // Brackets in names are no patterns.
    static std::string escaped(const std::string& name) {
        std::string glob;
        for (const char c : name) glob += c == '[' || c == '*' || c == '?' ? fmt::format("[{}]", c) : std::string(1, c);
        return glob;
    }

    void look_at(Candidate& c) {
        const auto medium = media_.find(c.volume);
        if (c.likeness || medium == media_.end() || c.layout.empty() || c.record.size == 0) return;
        c.likeness = preview::likeness_in(*open_content(medium->second, c.layout, c.record.size), c);
        learnt_.push_back(c);
    }

    Result<void> pictures(const Candidate& wanted) {
        Selection pictures = among_;
        pictures.kinds = {Kind::picture, Kind::video};
        std::vector<std::int64_t> unseen;
        std::vector<Seen> beside;  // in the same folder
        const auto compare = [&](const Candidate& c) {
            if (*c.likeness != 0 && !wanted.record.folder.empty() && c.record.folder == wanted.record.folder)
                beside.push_back({c.id, *c.likeness});
            const int different = std::popcount(*c.likeness ^ *wanted.likeness);
            if (*c.likeness != 0 && different <= kMaxDifferent)
                add(c.id, 1 + static_cast<unsigned>(different),
                    fmt::format("looks alike, {} %", 100 * (kBits - different) / kBits));
        };
        DREDGER_CHECK(catalog_.each(pictures, {}, false, [&](const Candidate& c) {
            if (c.likeness)
                compare(c);
            else if (!c.record.is_folder && c.prospect.band != Band::gone)
                unseen.push_back(c.id);
            return true;
        }));
        std::uint64_t done = 0;
        learnt_.clear();
        for (const std::int64_t id : unseen) {
            if (observer_.should_stop()) break;
            observer_.progress({"looking at pictures", done++, unseen.size(), "pictures", found_.size()});
            DREDGER_TRY(auto candidate, catalog_.find(id));
            if (!candidate) continue;
            look_at(*candidate);
            if (candidate->likeness) compare(*candidate);
            if (learnt_.size() >= kKeepEvery) keep();
        }
        keep();
        series(*wanted.likeness, std::move(beside));
        return {};
    }

    // A burst, or a walk around: each is like the next one, though the last may not be like the first any more.
    void series(std::uint64_t from, std::vector<Seen> beside) {
        std::vector<std::uint64_t> reached = {from};
        for (unsigned steps = 1; !reached.empty() && !observer_.should_stop(); ++steps) {
            std::vector<std::uint64_t> next;
            std::erase_if(beside, [&](const Seen& one) {
                const bool is_next = std::any_of(reached.begin(), reached.end(), [&](std::uint64_t last) {
                    return std::popcount(one.likeness ^ last) <= kMaxStep;
                });
                if (!is_next) return false;
                next.push_back(one.likeness);
                add(one.id, kMaxDifferent + 1 + steps, "of the same series");
                return true;
            });
            reached = std::move(next);
        }
    }

    void keep() {
        catalog_.keep(learnt_);
        learnt_.clear();
    }

    Result<std::vector<Similar>> selected() {
        std::vector<Similar> list;
        Selection found = among_;
        found.ids.clear();
        found.only.clear();
        for (const auto& [id, similar] : found_)
            if (among_.only.empty() || among_.only.contains(id)) found.only.insert(id);
        if (found.only.empty()) return list;
        DREDGER_CHECK(catalog_.each(found, {}, false, [&](const Candidate& c) {
            list.push_back(found_.at(c.id));
            return true;
        }));
        std::stable_sort(list.begin(), list.end(), [](const Similar& a, const Similar& b) { return a.rank < b.rank; });
        return list;
    }

    Catalog& catalog_;
    const std::map<std::int64_t, MediumPtr>& media_;
    const Selection& among_;
    Observer& observer_;
    std::vector<Learnt> learnt_;
    std::map<std::int64_t, Similar> found_;
};

}  // namespace

Result<std::vector<Similar>> similar_to(Catalog& catalog, const std::map<std::int64_t, MediumPtr>& media,
                                        const Candidate& wanted, const Selection& among, Observer& observer) {
    return Search(catalog, media, among, observer).run(wanted);
}

}  // namespace dredger
