#include "formats/reader.h"
#include "media/window.h"
#include "preview/decoders.h"

namespace dredger::preview {

std::optional<Picture> decode_largest_jpeg(const Medium& content, int side) {
    constexpr unsigned kMaxStarts = 8;
    Budget budget;
    Reader reader(content, budget);
    const MediumPtr whole(MediumPtr(), &content);  // not owned
    std::optional<Picture> best;
    std::uint64_t at = 1;
    for (unsigned n = 0; n < kMaxStarts; ++n) {
        const auto start = reader.find("\xFF\xD8\xFF", at, std::min<std::uint64_t>(reader.size(), 64 << 20));
        if (!start) break;
        auto picture = decode_jpeg(Window(whole, *start, content.size()), side);
        if (picture && (!best || picture->width > best->width)) best = std::move(picture);
        at = *start + 3;
    }
    return best;
}

}  // namespace dredger::preview
