#include "volumes/luks.h"

#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "volumes/trace.h"

namespace dredger::luks {

std::optional<Container> look(const Medium& volume) {
    using namespace std::string_view_literals;
    const auto head = bytes_at(volume, 0, 8);
    if (!head || !ByteView(*head).has(0, "LUKS\xBA\xBE"sv)) return std::nullopt;
    const unsigned version = ByteView(*head).as<boost::endian::big_uint16_t>(6)->value();
    if (version != 1 && version != 2) return std::nullopt;
    Container container;
    container.type = fmt::format("LUKS{} encryption", version);
    container.remarks.emplace_back(
        "it is encrypted: open it with its passphrase (cryptsetup open --readonly DEVICE NAME) and scan "
        "/dev/mapper/NAME");
    return container;
}

}  // namespace dredger::luks
