#include "repairing/archive/xz_block.h"

#include <array>
#include <lzma.h>
#include <vector>

namespace dredger::repairing {
namespace {

constexpr unsigned kLongestUsual = 15;  // the first byte of headers that say no more than usual
constexpr std::uint64_t kMostUnpacked = std::uint64_t{1} << 30;  // bytes

// The filters of a header, which the library allocates.
struct Filters {
    ~Filters() {
        for (lzma_filter& filter : list) std::free(filter.options);
    }
    std::array<lzma_filter, LZMA_FILTERS_MAX + 1> list{};
};

}  // namespace

std::uint64_t unpack_xz_block(Reader& content, std::uint64_t stream, std::uint64_t at, const VisitBytes& visit) {
    const unsigned first = content.u8(at);
    if (first == 0 || first > kLongestUsual || (content.u8(at + 1) & 0x3CU) != 0) return 0;
    Filters filters;
    filters.list[0].id = LZMA_VLI_UNKNOWN;
    lzma_block block{};
    block.version = 1;
    block.filters = filters.list.data();
    block.check = static_cast<lzma_check>(content.u8(stream + 7) & 15U);
    block.header_size = lzma_block_header_size_decode(first);
    const std::string header = content.text(at, block.header_size);
    if (header.size() != block.header_size ||
        lzma_block_header_decode(&block, nullptr, reinterpret_cast<const std::uint8_t*>(header.data())) != LZMA_OK)
        return 0;
    lzma_stream x = LZMA_STREAM_INIT;
    lzma_ret state = lzma_block_decoder(&x, &block);
    std::uint64_t came = 0;
    std::uint64_t from = at + block.header_size;
    std::vector<char> room(256 << 10);
    while (state == LZMA_OK && came < kMostUnpacked) {
        const auto here = content.some(from);
        x.next_in = reinterpret_cast<const std::uint8_t*>(here.data());
        x.avail_in = here.size();
        x.next_out = reinterpret_cast<std::uint8_t*>(room.data());
        x.avail_out = room.size();
        state = lzma_code(&x, LZMA_RUN);
        from += here.size() - x.avail_in;
        came += room.size() - x.avail_out;
        visit({room.data(), room.size() - x.avail_out});
        if (here.empty() && x.avail_out == room.size()) break;
    }
    lzma_end(&x);
    return state == LZMA_STREAM_END ? from - at : 0;
}

}  // namespace dredger::repairing
