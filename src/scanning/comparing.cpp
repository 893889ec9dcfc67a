#include "scanning/comparing.h"

#include <algorithm>
#include <map>

#include "base/in_parallel.h"
#include "media/content.h"
#include "media/medium_sum.h"

namespace dredger {
namespace {

constexpr std::size_t kHead = 4096;               // bytes that tell most files apart
constexpr std::uint64_t kWorthThreads = 1 << 20;  // bytes to read

class ContentComparison {
  public:
    ContentComparison(Catalog& catalog, const MediumPtr& medium, const Fingerprints& seen)
        : catalog_(catalog), medium_(medium), seen_(seen) {}

    // Of files that have as many bytes, in the order of their ids.
    Result<void> group(const std::vector<std::int64_t>& ids) {
        if (std::all_of(ids.begin(), ids.end(), [&](std::int64_t id) { return seen_.contains(id); })) return seen(ids);
        std::vector<Candidate> candidates;
        for (const std::int64_t id : ids) {
            DREDGER_TRY(auto candidate, catalog_.find(id));
            if (!candidate || candidate->layout.empty() || candidate->prospect.band == Band::gone) continue;
            candidates.push_back(std::move(*candidate));
        }
        std::map<std::string, std::vector<Candidate>> by_head;
        const auto heads = digests_of(candidates, kHead);
        for (std::size_t i = 0; i < candidates.size(); ++i)
            if (heads[i]) by_head[*heads[i]].push_back(std::move(candidates[i]));
        for (const auto& [head, alike] : by_head)
            if (alike.size() > 1) DREDGER_CHECK(alike_heads(alike));
        return {};
    }

  private:
    // Nothing has to be read again.
    Result<void> seen(const std::vector<std::int64_t>& ids) {
        std::map<Fingerprint, std::vector<std::int64_t>> by_content;
        for (const std::int64_t id : ids) by_content[seen_.at(id)].push_back(id);
        for (const auto& [print, same] : by_content) DREDGER_CHECK(save(same));
        return {};
    }

    Result<void> save(const std::vector<std::int64_t>& same) {
        if (same.size() > 1)
            for (const std::int64_t id : same) DREDGER_CHECK(catalog_.save_content(id, same.front()));
        return {};
    }

    Result<void> alike_heads(const std::vector<Candidate>& alike) {
        std::map<std::string, std::vector<std::int64_t>> by_content;
        const auto digests = digests_of(alike, alike.front().record.size);
        for (std::size_t i = 0; i < alike.size(); ++i)
            if (digests[i]) by_content[*digests[i]].push_back(alike[i].id);
        for (const auto& [digest, same] : by_content) DREDGER_CHECK(save(same));
        return {};
    }

    // Of each one's first bytes, by as many threads as there are processors.
    std::vector<std::optional<std::string>> digests_of(const std::vector<Candidate>& candidates,
                                                       std::uint64_t most) const {
        std::vector<std::optional<std::string>> digests(candidates.size());
        const auto work = [&](std::size_t i) { digests[i] = digest_of(candidates[i], most); };
        if (candidates.size() * most < kWorthThreads) {
            for (std::size_t i = 0; i < candidates.size(); ++i) work(i);
        } else {
            in_parallel(
                candidates.size(), workers_for(0), [&](std::size_t i, const std::atomic<bool>&) { work(i); },
                [](std::size_t) { return true; });
        }
        return digests;
    }

    // Of the first bytes, none where they can't be read.
    std::optional<std::string> digest_of(const Candidate& candidate, std::uint64_t most) const {
        const FileEntry& record = candidate.record;
        const auto content = open_content(medium_, candidate.layout, record.size);
        if (content->size() != record.size) return std::nullopt;
        return sha256_of(*content, most);
    }

    Catalog& catalog_;
    MediumPtr medium_;
    const Fingerprints& seen_;
};

}  // namespace

Result<bool> compare_contents(Catalog& catalog, std::int64_t source, const MediumPtr& medium, const Fingerprints& seen,
                              Observer& observer) {
    DREDGER_TRY(const std::int64_t next, catalog.next_id());
    DREDGER_TRY(const std::int64_t before, catalog.compared_to(source));
    if (before == next - 1) return true;
    std::vector<std::vector<std::int64_t>> groups;
    std::uint64_t size = 0, files = 0;
    DREDGER_CHECK(catalog.each_of_same_size(source, [&](std::int64_t candidate, std::uint64_t bytes) {
        if (groups.empty() || bytes != size) groups.emplace_back();
        size = bytes;
        groups.back().push_back(candidate);
        ++files;
        return true;
    }));
    ContentComparison comparison(catalog, medium, seen);
    std::uint64_t done = 0;
    DREDGER_CHECK(catalog.begin());
    for (const auto& group : groups) {
        observer.progress({"comparing files of the same size", done, files, "files"});
        const auto compared = observer.should_stop() ? Result<void>() : comparison.group(group);
        if (!compared || observer.should_stop()) {
            catalog.roll_back();
            return compared ? Result<bool>(false) : tl::unexpected<Error>(compared.error());
        }
        done += group.size();
    }
    DREDGER_CHECK(catalog.save_compared(source, next - 1));
    DREDGER_CHECK(catalog.summarise());
    DREDGER_CHECK(catalog.commit());
    return true;
}

}  // namespace dredger
