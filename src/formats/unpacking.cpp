#include "formats/unpacking.h"

#include <algorithm>

#include "base/digest.h"
#include "formats/bytes_of_content.h"
#include "formats/stream_memory.h"

namespace dredger::formats {

namespace {

// Feeds what stands up to `end` of the content into the stream that begins at `at`, at most `step` bytes at once;
// `after_step` is called behind each of these.
template <class Take, class AfterStep>
void go_on(Reader& content, StreamDecoder& decoder, Unpacked& result, std::uint64_t at, std::uint64_t end,
           std::size_t step, const Take& take, const AfterStep& after_step) {
    while (at + result.packed < end && result.state == StreamDecoder::State::going && !content.budget().is_spent()) {
        auto here = content.some(at + result.packed);
        if (here.empty()) break;
        here = here.first(
            static_cast<std::size_t>(std::min<std::uint64_t>({here.size(), step, end - at - result.packed})));
        std::size_t used = 0;
        result.state = decoder.feed(here, used, [&](std::span<const std::byte> out) {
            result.bytes += out.size();
            (void)content.budget().spend_unpacked(out.size());
            result.crc = crc32(out, result.crc);
            take(out);
        });
        result.packed += used;
        after_step();
        if (used == 0) break;
    }
}

void keep_head(Unpacked& result, std::span<const std::byte> out, std::size_t head) {
    if (result.head.size() < head)
        result.head.append(reinterpret_cast<const char*>(out.data()), std::min(out.size(), head - result.head.size()));
}

Unpacked unpack_again(Reader& content, StreamMemory& memory, Packing packing, std::uint64_t at, std::uint64_t end,
                      std::size_t head) {
    constexpr std::size_t kStep = 1024, kEnough = 4 * kStep;  // bytes
    const std::uint64_t place = content.place_of(at);
    // Of the stream: behind it other bytes stand than before. What comes out there is of another kind only by chance,
    // unless they are foreign.
    const std::uint64_t seam = memory.kept() > place ? memory.kept() - place : 0;
    if (const Unpacked* all = memory.ended(place, head); all != nullptr && at + all->packed <= end) return *all;
    auto way = memory.furthest(place, head);
    if (!way || at + way->so_far.packed > end) {
        way = StreamMemory::Way{{}, StreamDecoder(packing), {}};
        way->so_far.state = StreamDecoder::State::going;
    }
    Unpacked& result = way->so_far;
    go_on(
        content, way->decoder, result, at, end, kStep,
        [&](std::span<const std::byte> out) {
            keep_head(result, out, head);
            way->familiarity.add(out);
        },
        [&] {
            way->familiarity.mark(result.packed);
            if (result.state != StreamDecoder::State::going) return;
            if (seam > kStep && result.packed > seam + kEnough && result.packed <= seam + 2 * kEnough &&
                way->familiarity.change(seam - kStep, seam + kStep)) {
                result.state = StreamDecoder::State::failed;
                return;
            }
            memory.note(place, head, *way);
        });
    result.alike = result.packed;
    if (result.ended()) {
        memory.note_end(place, head, result);
    } else if (const auto change = way->familiarity.change()) {
        result.alike = *change;
    }
    return std::move(result);
}

}  // namespace

Unpacked unpack(Reader& content, Packing packing, std::uint64_t at, std::uint64_t most, std::size_t head) {
    const std::uint64_t end = at + std::min(most, content.size() - std::min(at, content.size()));
    if (content.memory() != nullptr) return unpack_again(content, *content.memory(), packing, at, end, head);
    Unpacked result;
    result.state = StreamDecoder::State::going;
    StreamDecoder decoder(packing);
    go_on(
        content, decoder, result, at, end, Reader::kWindow,
        [&](std::span<const std::byte> out) { keep_head(result, out, head); }, [] {});
    result.alike = result.packed;
    return result;
}

std::uint32_t crc32_of(Reader& content, std::uint64_t at, std::uint64_t length) {
    std::uint32_t crc = 0;
    each_span(content, at, length, [&](std::span<const std::byte> bytes) { crc = crc32(bytes, crc); });
    return crc;
}

}  // namespace dredger::formats
