// A format that no program has, in one file: rings of 16 bytes behind a head that counts them, each with a check byte.
// Its walk tells the rings as parts, and measuring is the same walk.
#include <fmt/format.h>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kHead = 16, kRing = 16;

Measured take_roll_apart(Reader& content, const PartSink& sink) {
    PartTeller parts(sink);
    if (!content.holds(0, kHead)) return nonsense();
    const std::uint64_t rings = content.u32le(8);
    for (std::uint64_t n = 0; n < rings && content.ok(); ++n) {
        const std::uint64_t at = kHead + n * kRing;
        const std::string ring = content.text(at, kRing);
        char sum = 0;
        for (const char c : ring) sum = static_cast<char>(sum ^ c);
        const bool is_right = ring.size() == kRing && sum == 0;
        if (parts.is_wanted())
            parts.tell({"ring",
                        ring.substr(0, ring.find('\0')),
                        {{at, ring.size()}},
                        Packing::none,
                        kRing,
                        is_right ? Part::Check::right : Part::Check::wrong});
        if (!is_right) return n == 0 ? nonsense() : broken(at, "a ring's check byte is off", kHead + rings * kRing);
    }
    return rings == 0 ? nonsense() : whole(kHead + rings * kRing, Proof::checksums);
}

Description describe_roll(Reader& content, std::uint64_t) {
    Description said;
    (void)take_roll_apart(content, [&](Part&& ring) {
        said.title = fmt::format("Rings from {}", ring.name);
        return false;
    });
    return said;
}

const std::vector<Format>& ring_rolls() {
    static const std::vector<Format> family = {
        {.name = "ringroll",
         .kind = Kind::document,
         .extensions = {"ringroll"},
         .signatures = {{{0, "RINGROLL"sv}}},
         .measure = measure_by<take_roll_apart>,
         .take_apart = take_roll_apart,
         .describe = describe_roll,
         .ending = "the rings that its head counts",
         .checked = "the check byte of every ring"},
    };
    return family;
}

const bool is_registered = [] {
    add_format_family(ring_rolls());
    return true;
}();

}  // namespace
}  // namespace dredger::formats
