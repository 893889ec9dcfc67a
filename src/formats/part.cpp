#include "formats/part.h"

#include <algorithm>

#include "formats/unpacking.h"

namespace dredger {

std::string bytes_of(Reader& content, const Part& part, std::size_t most) {
    std::string bytes;
    if (part.packing == Packing::unknown) return bytes;
    // What is packed lies in one place in every format that packs.
    if (part.packing != Packing::none)
        return part.where.empty()
                   ? bytes
                   : formats::unpack(content, part.packing, part.where.front().offset, part.where.front().length, most)
                         .head;
    for (const Extent& extent : part.where) {
        const std::uint64_t wanted = std::min<std::uint64_t>(extent.length, most - bytes.size());
        for (std::uint64_t done = 0; done < wanted;) {
            const std::string piece =
                content.text(extent.offset + done,
                             static_cast<std::size_t>(std::min<std::uint64_t>(wanted - done, Reader::kMaxText)));
            if (piece.empty()) return bytes;
            bytes += piece;
            done += piece.size();
        }
        if (bytes.size() >= most) break;
    }
    return bytes;
}

}  // namespace dredger
