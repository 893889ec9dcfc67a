#include "support/ringing_log.h"

#include <fmt/format.h>
#include <random>
#include <stdexcept>
#include <zlib.h>

namespace dredger::test {

std::string ringing_log(unsigned seed, std::size_t lines) {
    constexpr const char* kBirds[] = {"Puffin", "Razorbill", "Guillemot", "Fulmar", "Kittiwake", "Storm petrel"};
    std::mt19937 random(seed);
    std::string log;
    for (std::size_t n = 0; n < lines; ++n)
        log += fmt::format("2026-{:02}-{:02};SK{:04};{};{} mm;{} g;ringed\n", random() % 12 + 1, random() % 28 + 1,
                           random() % 10000, kBirds[random() % 6], random() % 90 + 120, random() % 400 + 300);
    return log;
}

std::vector<std::byte> gzipped(const std::string& text) {
    z_stream z{};
    if (deflateInit2(&z, 6, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY) != Z_OK) throw std::runtime_error("deflate");
    std::vector<std::byte> packed(deflateBound(&z, text.size()));
    z.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(text.data()));
    z.avail_in = static_cast<uInt>(text.size());
    z.next_out = reinterpret_cast<Bytef*>(packed.data());
    z.avail_out = static_cast<uInt>(packed.size());
    deflate(&z, Z_FINISH);
    packed.resize(z.total_out);
    deflateEnd(&z);
    return packed;
}

}  // namespace dredger::test
