#include <algorithm>
#include <array>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"

namespace dredger::repairing {
namespace {

constexpr std::size_t kHead = 64 << 10;  // bytes

const Mender* by_name(std::string_view name) {
    const Format* format = format_with_extension(extension_of(name));
    return format == nullptr ? nullptr : mender_of(format->name);
}

}  // namespace

std::span<const Mender* const> all_menders() {
    static const std::array menders = {&zip_mender(),    &pdf_mender(),    &compound_mender(), &jpeg_mender(),
                                       &png_mender(),    &film_mender(),   &avi_mender(),      &matroska_mender(),
                                       &framed_mender(), &ogg_mender(),    &wav_mender(),      &raw_mender(),
                                       &tar_mender(),    &packed_mender(), &rar_mender(),      &seven_zip_mender()};
    return menders;
}

const Mender* mender_of(std::string_view format) {
    for (const Mender* mender : all_menders())
        if (std::find(mender->formats.begin(), mender->formats.end(), format) != mender->formats.end()) return mender;
    return nullptr;
}

const Mender* mender_for(const Damaged& file) {
    const std::uint64_t size = file.content->size();
    std::vector<std::byte> head(static_cast<std::size_t>(std::min<std::uint64_t>(size, kHead)));
    std::vector<Extent> bad;
    if (!file.content->read(0, head, &bad)) return nullptr;
    const Mender* named = by_name(file.name);
    if (const Format* format = format_with_head(ByteView(head)); format != nullptr)
        if (const Mender* mender = mender_of(format->name)) return mender;
    // The name is believed first: content of one kind often holds some of another.
    if (named != nullptr && (named->bid == nullptr || named->bid(file) > 0)) return named;
    const Mender* best = nullptr;
    unsigned most = 0;
    for (const Mender* mender : all_menders()) {
        const unsigned bid = mender->bid ? mender->bid(file) : 0;
        if (bid <= most) continue;
        best = mender;
        most = bid;
    }
    return best != nullptr ? best : named;
}

}  // namespace dredger::repairing
