// Which formats could begin at a place: a look-up of its first bytes, then the bids of those that are left.
#pragma once

#include <array>
#include <bitset>
#include <set>
#include <string>
#include <vector>

#include "formats/format.h"

namespace dredger {

// What is looked for; empty: everything.
struct Wanted {
    std::set<Kind> kinds;
    std::vector<std::string> formats;  // names
    bool takes(const Format& format) const;
};

struct Bid {
    const Format* format;
    unsigned bits;         // of evidence
    bool goes_on = false;  // text stands before it: it may have begun there
};

class Nominator {
  public:
    // `further` formats are tried too, whatever is wanted. They must outlive the nominator.
    explicit Nominator(const Wanted& wanted, const std::vector<const Format*>& further = {});

    // How many bytes from a place on it looks at, at most.
    std::size_t reach() const { return reach_; }

    // The formats that the bytes from a place on could be, most bits of evidence first. `before`: the bytes right
    // before it, as far as they are known; they tell whether text only goes on here.
    void nominate(ByteView head, ByteView before, std::vector<Bid>& bids) const;

    // Has the bytes fetched that nominate() will look at first, for a place some way ahead: they mostly lie in memory
    // that no core has touched.
    void expect(ByteView head) const {
        for (const auto& anchor : anchors_)
            if (anchor->offset < head.size()) __builtin_prefetch(head.bytes().data() + anchor->offset);
    }

  private:
    struct Anchor {
        std::size_t offset;                          // of two bytes
        std::bitset<65536> known;                    // those that a format has: small enough to stay at hand
        std::array<std::uint16_t, 65536> list_of{};  // index into lists_; 0: no format
    };
    void add(const Format& format);
    void add_to(Anchor& anchor, std::uint16_t key, const Format& format);

    std::vector<std::unique_ptr<Anchor>> anchors_;
    std::vector<std::vector<const Format*>> lists_;
    std::vector<const Format*> texts_;  // have no signature
    std::size_t reach_ = 4096;
};

}  // namespace dredger
