#include <algorithm>
#include <map>

#include "base/text.h"
#include "formats/families.h"

namespace dredger {
namespace {

bool holds(const std::vector<Signature>& group, ByteView head) {
    return std::all_of(group.begin(), group.end(), [&](const Signature& s) { return head.has(s.offset, s.bytes); });
}

bool shows(const Format& format, ByteView head) {
    return std::any_of(format.signatures.begin(), format.signatures.end(),
                       [&](const auto& group) { return holds(group, head); });
}

// Characters only: no zero bytes and no control characters but those that texts have. UTF-16 is told by its mark.
bool looks_like_text(ByteView head) {
    if (head.has(0, "\xFF\xFE") || head.has(0, "\xFE\xFF")) return true;
    return std::all_of(head.bytes().begin(), head.bytes().end(), [](std::byte b) {
        const auto c = std::to_integer<unsigned>(b);
        return c >= 0x20 ? c != 0x7F : c == '\t' || c == '\r' || c == '\n' || c == '\f' || c == 0x1B;
    });
}

std::vector<const std::vector<Format>*>& families() {
    static std::vector<const std::vector<Format>*> list = {
        &formats::jpeg(),     &formats::png(),       &formats::gif(),        &formats::bitmaps(),
        &formats::tiff(),     &formats::riff(),      &formats::isobmff(),    &formats::matroska(),
        &formats::mpeg(),     &formats::streaming(), &formats::mpeg_audio(), &formats::sound(),
        &formats::pdf(),      &formats::zip(),       &formats::ole2(),       &formats::archives(),
        &formats::packed(),   &formats::databases(), &formats::programs(),   &formats::fonts(),
        &formats::jpeg2000(), &formats::images(),    &formats::scans(),      &formats::drawings(),
        &formats::models(),   &formats::music(),     &formats::broadcast(),  &formats::old_archives(),
        &formats::disks(),    &formats::books(),     &formats::compiled(),   &formats::system_files(),
        &formats::tga(),      &formats::netpbm(),    &formats::stl(),        &formats::keys(),
        &formats::design(),   &formats::compress(),  &formats::pyc(),        &formats::page_stores(),
        &formats::regions(),  &formats::text()};
    return list;
}

// Formats may share one; the usual one comes first.
const std::vector<const Format*>& formats_with_extension(std::string_view extension) {
    static const std::map<std::string_view, std::vector<const Format*>> by_extension = [] {
        std::map<std::string_view, std::vector<const Format*>> map;
        for (const Format* format : all_formats())
            for (const auto known : format->extensions) map[known].push_back(format);
        return map;
    }();
    static const std::vector<const Format*> none;
    const auto found = by_extension.find(extension);
    return found == by_extension.end() ? none : found->second;
}

}  // namespace

std::span<const std::vector<Format>* const> all_families() { return families(); }

// In front of text, which is whatever nothing else claims to be.
void add_format_family(const std::vector<Format>& family) { families().insert(families().end() - 1, &family); }

bool are_kin(std::string_view a, std::string_view b) {
    if (a == b) return true;
    for (const auto* family : all_families()) {
        const auto has = [&](std::string_view name) {
            return std::any_of(family->begin(), family->end(), [&](const Format& f) { return f.name == name; });
        };
        if (has(a) && has(b)) return true;
    }
    return false;
}

std::span<const Format* const> all_formats() {
    static const std::vector<const Format*> all = [] {
        std::vector<const Format*> list;
        for (const auto* family : all_families())
            for (const Format& format : *family) list.push_back(&format);
        return list;
    }();
    return all;
}

std::optional<Kind> kind_from_word(std::string_view word) {
    const auto found = std::find(std::begin(kKindWords), std::end(kKindWords), word);
    if (found == std::end(kKindWords)) return std::nullopt;
    return static_cast<Kind>(found - std::begin(kKindWords));
}

const Format* format_with_extension(std::string_view extension) {
    const auto& formats = formats_with_extension(extension);
    return formats.empty() ? nullptr : formats.front();
}

const Format* format_with_head(ByteView head) {
    const Format* best = nullptr;
    unsigned most = 0;
    for (const Format* format : all_formats()) {
        if (!shows(*format, head)) continue;
        const unsigned bid = bid_of(*format, head);
        if (bid <= most) continue;
        best = format;
        most = bid;
    }
    return best;
}

const Format* format_named(std::string_view name) {
    static const std::map<std::string_view, const Format*> by_name = [] {
        std::map<std::string_view, const Format*> map;
        for (const Format* format : all_formats()) map.emplace(format->name, format);
        return map;
    }();
    const auto found = by_name.find(name);
    return found == by_name.end() ? nullptr : found->second;
}

const Format* measurer_of(const Format& format) {
    const Format* measurer = format.measure ? &format : format_named(format.told_by);
    return measurer != nullptr && measurer->measure ? measurer : nullptr;
}

Measured measure(const Format& format, Reader& content) {
    Measured found = format.measure(content);
    const std::uint64_t at = std::min(content.trouble_at(), content.size());
    switch (content.trouble()) {
        case Reader::Trouble::none: break;
        case Reader::Trouble::gave_up: found = {}, found.end = Measured::End::gave_up; break;
        case Reader::Trouble::unreadable:
            if (found.end == Measured::End::whole || found.end == Measured::End::open)
                found = broken_between(at, found.length, "a part of it can't be read", 0, found.format);
            found.sure = std::min(found.sure, at);
            break;
        case Reader::Trouble::past_end:
            if (found.end == Measured::End::whole || found.end == Measured::End::open)
                found = broken(std::min(found.length, content.size()), "its end is missing", 0, found.format);
            break;
    }
    return found;
}

unsigned bid_of(const Format& format, ByteView head) {
    if (format.bid != nullptr) return format.bid(head);
    unsigned best = 0;
    for (const auto& group : format.signatures) {
        if (!holds(group, head)) continue;
        std::size_t bytes = 0;
        for (const Signature& s : group) bytes += s.bytes.size();
        best = std::max(best, static_cast<unsigned>(8 * bytes));
    }
    return best;
}

Kind kind_of_name(std::string_view name) {
    const Format* format = format_with_extension(extension_of(name));
    return format != nullptr ? format->kind : Kind::other;
}

Agreement judge_head(std::string_view extension, ByteView head) {
    if (head.size() >= 16 && head.is_uniform()) return Agreement::blank;
    Agreement agreement = Agreement::unknown;
    // Formats may share an extension: one that agrees is enough.
    for (const Format* format : formats_with_extension(extension)) {
        if (format->is_text) return looks_like_text(head) ? Agreement::fits : Agreement::disagrees;
        if (shows(*format, head)) return Agreement::agrees;
        // A signature that lies beyond the bytes at hand can't be missed.
        for (const auto& group : format->signatures)
            for (const Signature& s : group)
                if (s.offset + s.bytes.size() > head.size()) return Agreement::unknown;
        agreement = Agreement::disagrees;
    }
    return agreement;
}

}  // namespace dredger
