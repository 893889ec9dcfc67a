#include "filesystems/ntfs/former_names.h"

#include <algorithm>
#include <tuple>

namespace dredger::ntfs {
namespace {

constexpr std::size_t kMax = 200'000;

std::uint64_t hash_of(const Name& name) {
    return std::hash<std::string>()(name.text) ^ (name.parent.number() * 0x9E3779B97F4A7C15U);
}

auto order_of(const FormerName& f) {
    return std::tuple(!f.has_file, f.file, f.name.parent.number(), std::string_view(f.name.text));
}

}  // namespace

bool is_same_name(const Name& a, const Name& b) { return a.parent.number() == b.parent.number() && a.text == b.text; }

void FormerNames::add(std::vector<FormerName>&& found) {
    for (FormerName& former : found)
        if (names_.size() < kMax) names_.push_back(std::move(former));
}

void FormerNames::seal() {
    std::stable_sort(names_.begin(), names_.end(),
                     [](const FormerName& a, const FormerName& b) { return order_of(a) < order_of(b); });
    names_.erase(std::unique(names_.begin(), names_.end(),
                             [](const FormerName& a, const FormerName& b) { return order_of(a) == order_of(b); }),
                 names_.end());
    for (std::size_t i = 0; i < names_.size(); ++i)
        if (!names_[i].has_file) nameless_[hash_of(names_[i].name)].push_back(i);
}

const FormerName* FormerNames::next_upto(std::uint64_t number) {
    if (next_ >= names_.size() || !names_[next_].has_file || names_[next_].file.number > number) return nullptr;
    return &names_[next_++];
}

const FormerName* FormerNames::find(std::uint64_t number, std::uint16_t sequence, bool in_use) const {
    auto at = std::lower_bound(names_.begin(), names_.end(), number, [](const FormerName& f, std::uint64_t wanted) {
        return f.has_file && f.file.number < wanted;
    });
    for (; at != names_.end() && at->has_file && at->file.number == number; ++at)
        if (is_same_life(at->file.sequence, sequence, in_use)) return &*at;
    return nullptr;
}

void FormerNames::account_for(const Name& name) {
    const auto same = nameless_.find(hash_of(name));
    if (same == nameless_.end()) return;
    for (const std::size_t i : same->second)
        if (is_same_name(names_[i].name, name)) accounted_.insert(i);
}

std::vector<const FormerName*> FormerNames::unaccounted() const {
    std::vector<const FormerName*> left;
    for (std::size_t i = 0; i < names_.size(); ++i)
        if (!names_[i].has_file && !accounted_.contains(i)) left.push_back(&names_[i]);
    return left;
}

}  // namespace dredger::ntfs
