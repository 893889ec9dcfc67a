#include "media/identity.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/digest.h"
#include "media/drives.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSamples = 64;
constexpr std::uint64_t kSampleBytes = 4096;

}  // namespace

Result<Identity> identify(const OpenedMedium& opened) {
    const Medium& medium = *opened.medium;
    Identity identity{medium.size(), opened.is_device ? serial_of(opened.path) : "", {}};
    const std::uint64_t length = std::min(kSampleBytes, medium.size());
    const std::uint64_t last = medium.size() - length;
    std::vector<std::byte> block(length);
    for (std::uint64_t n = 0; n < kSamples; ++n) {
        // Without overflow: last * n / (kSamples - 1), cut to a whole block.
        std::uint64_t at = last / (kSamples - 1) * n + last % (kSamples - 1) * n / (kSamples - 1);
        at = at / kSampleBytes * kSampleBytes;
        std::vector<Extent> bad;
        DREDGER_CHECK(medium.read(at, block, &bad));
        Sha256 digest;
        digest.add(block);
        identity.samples.push_back(bad.empty() ? digest.finish() : "");
    }
    const auto& samples = identity.samples;
    if (std::all_of(samples.begin(), samples.end(), [](const std::string& sample) { return sample.empty(); }))
        return fail(ErrorKind::unreadable, "nothing can be read from it", medium.name(),
                    "look at cable and power; dredger image tries harder");
    return identity;
}

Comparison compare(const Identity& scanned, const Identity& now) {
    if (scanned.size != now.size)
        return {false, fmt::format("it has {} bytes, the one scanned had {}", now.size, scanned.size)};
    if (!scanned.serial.empty() && !now.serial.empty() && scanned.serial != now.serial)
        return {false, fmt::format("its serial number is {}, the one scanned had {}", now.serial, scanned.serial)};
    std::size_t differing = 0, common = 0;
    for (std::size_t i = 0; i < std::min(scanned.samples.size(), now.samples.size()); ++i) {
        if (scanned.samples[i].empty() || now.samples[i].empty()) continue;
        ++common;
        differing += scanned.samples[i] != now.samples[i] ? 1 : 0;
    }
    if (differing == 0) return {true, ""};
    return {differing * 4 <= common, fmt::format("{} of {} sampled blocks differ from the scan", differing, common)};
}

}  // namespace dredger
