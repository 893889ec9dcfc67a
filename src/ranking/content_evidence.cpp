#include "ranking/content_evidence.h"

#include <algorithm>
#include <fmt/format.h>

#include "ranking/bands.h"
#include "ranking/weights.h"

namespace dredger {
namespace {

int share(std::uint64_t part, std::uint64_t whole) {
    return whole == 0
               ? 0
               : static_cast<int>(100.0 * static_cast<double>(std::min(part, whole)) / static_cast<double>(whole));
}

Check check_of(const Measured& measured) {
    if (measured.end == Measured::End::broken) return Check::damaged;
    return measured.proof == Proof::checksums ? Check::verified : Check::plausible;
}

void say_proof(const ContentEvidence& e, std::vector<std::string>& reasons) {
    const Measured& m = e.measured;
    if (m.end == Measured::End::broken)
        reasons.push_back(fmt::format("its content makes sense up to byte {} only: {}", m.sure, m.trouble));
    else if (m.proof == Proof::checksums)
        reasons.emplace_back("all of its content was checked and agrees");
    else if (m.end == Measured::End::open)
        reasons.emplace_back(
            e.is_padded ? "its content makes sense up to where zeros follow"
                        : "its content makes sense up to its end, though nothing shows whether more belonged to it");
    else if (m.proof == Proof::structure)
        reasons.emplace_back("its parts follow one upon the other up to its end");
    else if (m.proof == Proof::chain)
        reasons.emplace_back("its parts follow one upon the other up to its end; nothing shows whether they are right");
    else
        reasons.emplace_back(
            "its header tells how long it is; nothing shows whether all that lies in between is its own");
}

}  // namespace

Prospect judge_content(const ContentEvidence& e) {
    const Measured& m = e.measured;
    Prospect prospect;
    prospect.check = check_of(m);
    say_proof(e, prospect.reasons);
    if (e.pieces > 1) {
        const bool proven = m.proof == Proof::checksums && m.is_whole();
        prospect.reasons.push_back(fmt::format("it was put together from {} pieces{}", e.pieces,
                                               proven ? "" : " that fit; nothing proves where exactly they meet"));
    }
    if (e.is_followed && m.is_whole())
        prospect.reasons.emplace_back("something follows it in its last sector, which may be its own");
    switch (m.end) {
        case Measured::End::whole:
            prospect.value = m.proof == Proof::checksums   ? kContentWeights.checksums
                             : e.pieces > 1                ? kContentWeights.joined
                             : m.proof == Proof::structure ? kContentWeights.structure
                             : m.proof == Proof::chain     ? kContentWeights.chain
                                                           : kContentWeights.length;
            break;
        case Measured::End::open:
            prospect.value = m.proof == Proof::length ? kContentWeights.open_text
                             : e.pieces > 1           ? kContentWeights.open
                             : e.is_padded            ? kContentWeights.open_padded
                                                      : kContentWeights.open;
            break;
        case Measured::End::broken:
            prospect.value = m.expected > m.sure ? std::clamp(share(m.sure, m.expected), kContentWeights.broken_least,
                                                              kContentWeights.broken_most)
                                                 : kContentWeights.broken_unknown;
            break;
        case Measured::End::nonsense:
        case Measured::End::gave_up: break;
    }
    if (e.is_followed) prospect.value = std::min(prospect.value, kContentWeights.followed);
    prospect.band = band_for(prospect.value);
    return prospect;
}

void add_content(Prospect& prospect, const ContentEvidence& e, std::uint64_t record_size) {
    const Measured& m = e.measured;
    if (m.end == Measured::End::gave_up)
        prospect.reasons.emplace_back("its content was not followed to its end: that cost more than it can be worth");
    if (!m.is_file()) return;
    if (m.end == Measured::End::broken) {
        prospect.value = std::min({prospect.value, kContentWeights.broken_most, share(m.sure, record_size)});
        prospect.band = band_for(prospect.value);
    } else if (m.is_whole() && m.proof == Proof::checksums && m.length == record_size) {
        // Whatever was said against it: the bytes are right.
        prospect.value = kContentWeights.checksums;
        prospect.band = Band::sound;
    } else if (m.is_whole() && m.length < record_size) {
        prospect.reasons.push_back(fmt::format("what stands there ends after {} of {} bytes", m.length, record_size));
        return;
    } else if (prospect.band == Band::sound) {
        prospect.value = std::max(
            prospect.value, m.proof == Proof::structure && m.is_whole() ? kContentWeights.structure : prospect.value);
    }
    prospect.check = check_of(m);
    say_proof(e, prospect.reasons);
}

void add_sums(Prospect& prospect, std::uint64_t agreeing, std::uint64_t stored) {
    if (agreeing == stored) {
        prospect.value = 100;
        prospect.check = Check::verified;
        prospect.reasons.emplace_back("all of it agrees with the checksums that the file system kept");
    } else {
        prospect.value = std::min(kContentWeights.broken_most, share(agreeing, stored));
        prospect.check = Check::damaged;
        prospect.reasons.push_back(
            fmt::format("{} % of it agrees with the checksums that the file system kept", share(agreeing, stored)));
    }
    prospect.band = band_for(prospect.value);
}

void add_foreign_content(Prospect& prospect, std::string_view format, std::uint64_t from, std::uint64_t size) {
    prospect.value = std::min(prospect.value, std::min(kContentWeights.broken_most, share(from, size)));
    prospect.band = band_for(prospect.value);
    prospect.check = Check::damaged;
    prospect.reasons.push_back(from == 0 ? fmt::format("another file ({}) begins where it began", format)
                                         : fmt::format("another file ({}) begins at its byte {}", format, from));
}

}  // namespace dredger
