#include "stores/mapi/names.h"

#include "base/bytes.h"

namespace dredger::stores::mapi {

NamedTags named_tags(const std::string& sets, const std::string& entries) {
    constexpr std::size_t kEntry = 8, kSet = 16, kOwnSets = 3;  // the first three have no place in the list
    NamedTags names;
    const ByteView view = view_of(entries);
    for (std::size_t at = 0; at + kEntry <= entries.size(); at += kEntry) {
        const std::uint16_t guid = view.u16le(at + 4).value_or(0), index = view.u16le(at + 6).value_or(0);
        const bool has_text_for_name = (guid & 1U) != 0;
        const std::size_t set = guid >> 1;
        if (has_text_for_name || set < kOwnSets || (set - kOwnSets + 1) * kSet > sets.size() || index >= 0x8000)
            continue;
        NamedTag named;
        named.number = view.u32le(at).value_or(0);
        for (std::size_t i = 0; i < kSet; ++i)
            named.set[i] = static_cast<std::uint8_t>(sets[(set - kOwnSets) * kSet + i]);
        names.emplace(named, static_cast<std::uint16_t>(0x8000U + index));
    }
    return names;
}

}  // namespace dredger::stores::mapi
