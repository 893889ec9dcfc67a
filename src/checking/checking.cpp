#include "checking/checking.h"

#include <algorithm>

#include "base/crc32c.h"
#include "base/text.h"
#include "media/content.h"
#include "ranking/content_evidence.h"

namespace dredger {
namespace {

constexpr std::uint64_t kHead = 4096;  // bytes that tell the format

// The format that stands there, if it is one of the name's kin.
const Format* format_of(ByteView head, const Format* named) {
    const Format* best = nullptr;
    unsigned most = 0;
    for (const Format* format : all_formats()) {
        if (!format->measure || (named != nullptr && !are_kin(format->name, named->name)) ||
            (named == nullptr && format->is_text))
            continue;
        if (const unsigned bits = bid_of(*format, head); bits > most) {
            most = bits;
            best = format;
        }
    }
    return best;
}

// How many of the stored bytes agree with the file system's own checksums; none where it has none of them.
std::optional<std::uint64_t> agreeing_bytes(const MediumPtr& medium, const Layout& layout) {
    if (layout.sums.empty() || layout.sum_unit == 0) return std::nullopt;
    std::vector<std::byte> unit(layout.sum_unit);
    std::size_t n = 0;
    std::uint64_t agreeing = 0;
    for (const Extent& extent : layout.extents)
        for (std::uint64_t at = 0; extent.is_stored() && at < extent.length; at += unit.size(), ++n) {
            std::vector<Extent> bad;
            if (n >= layout.sums.size() || !lies_within(extent.offset + at, unit.size(), medium->size()) ||
                !medium->read(extent.offset + at, unit, &bad) || !bad.empty())
                continue;
            if (crc32c(unit) == layout.sums[n]) agreeing += std::min<std::uint64_t>(unit.size(), extent.length - at);
        }
    return agreeing;
}

}  // namespace

bool can_be_checked(const Candidate& candidate) {
    const FileEntry& record = candidate.record;
    return !candidate.is_checked && record.state != State::live && record.origin != Origin::signature &&
           !record.is_folder && !candidate.layout.empty() && record.size > 0 && candidate.prospect.band != Band::gone;
}

bool check_content(const MediumPtr& medium, Candidate& candidate, const Budget::Stop& stop) {
    if (!can_be_checked(candidate)) return true;
    const FileEntry& record = candidate.record;
    const auto content = open_content(medium, candidate.layout, record.size);
    if (content->size() != record.size) return true;
    std::vector<std::byte> head(static_cast<std::size_t>(std::min(record.size, kHead)));
    std::vector<Extent> bad;
    if (!content->read(0, head, &bad)) return true;
    if (const auto agreeing = agreeing_bytes(medium, candidate.layout)) {
        candidate.is_checked = true;
        std::uint64_t stored = 0;
        for (const Extent& extent : candidate.layout.extents) stored += extent.is_stored() ? extent.length : 0;
        add_sums(candidate.prospect, *agreeing, stored);
        candidate.proof = *agreeing == stored ? Proof::checksums : Proof::none;
        return true;
    }
    const Format* named = format_with_extension(extension_of(record.name));
    const Format* best = format_of(ByteView(head), named);
    // Of text nothing but its characters could be checked.
    Budget budget(stop);
    ContentEvidence evidence;
    if (best != nullptr && best->name != "txt") {
        Reader reader(*content, budget);
        evidence.measured = measure(*best, reader);
        if (budget.was_stopped()) return false;
    }
    candidate.is_checked = true;
    if (evidence.measured.end == Measured::End::nonsense) return true;
    evidence.is_padded = true;
    const bool is_right = evidence.measured.is_file() && evidence.measured.end != Measured::End::broken &&
                          evidence.measured.length <= record.size;
    add_content(candidate.prospect, evidence, record.size);
    candidate.proof = is_right ? evidence.measured.proof : Proof::none;
    const Format* finer = format_named(evidence.measured.format.empty() ? best->name : evidence.measured.format);
    if (finer != nullptr && (named == nullptr || named == best)) {
        candidate.format = finer->name;
        candidate.kind = finer->kind;
    }
    return true;
}

const Format* measured_format(std::string_view name, ByteView head) {
    return format_of(head, format_with_extension(extension_of(name)));
}

std::optional<std::uint64_t> content_end(std::string_view name, const Medium& content, const Budget::Stop& stop) {
    constexpr std::uint64_t kLastCluster = 64 << 10;  // bytes
    const std::uint64_t size = content.size(), from = size - std::min(size, kLastCluster);
    std::vector<std::byte> tail(static_cast<std::size_t>(size - from));
    std::vector<std::byte> head(static_cast<std::size_t>(std::min(size, kHead)));
    std::vector<Extent> bad;
    if (size == 0 || !content.read(from, tail, &bad) || !content.read(0, head, &bad) || !bad.empty())
        return std::nullopt;
    const auto last = std::find_if(tail.rbegin(), tail.rend(), [](std::byte b) { return b != std::byte{0}; });
    if (last == tail.rend()) return std::nullopt;
    const std::uint64_t filled = size - static_cast<std::uint64_t>(last - tail.rbegin());
    // What belongs to the content may itself end with zeros.
    if (const Format* format = measured_format(name, ByteView(head))) {
        Budget budget(stop);
        Reader reader(content, budget);
        const Measured measured = measure(*format, reader);
        if (measured.is_whole() && measured.length > filled) return measured.length;
    }
    return filled;
}

std::optional<std::uint64_t> content_length(std::string_view name, const Medium& content, const Budget::Stop& stop) {
    std::vector<std::byte> head(static_cast<std::size_t>(std::min(content.size(), kHead)));
    std::vector<Extent> bad;
    if (!content.read(0, head, &bad)) return std::nullopt;
    const Format* format = measured_format(name, ByteView(head));
    if (format == nullptr) return std::nullopt;
    Budget budget(stop);
    Reader reader(content, budget);
    const Measured measured = measure(*format, reader);
    return measured.is_whole() ? std::optional(measured.length) : std::nullopt;
}

}  // namespace dredger
