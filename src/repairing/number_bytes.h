// Numbers as the bytes that formats have them in.
#pragma once

#include <boost/endian/conversion.hpp>
#include <cstdint>
#include <string>

namespace dredger::repairing {

template <class T>
std::string little(T value) {
    const T stored = boost::endian::native_to_little(value);
    return {reinterpret_cast<const char*>(&stored), sizeof(stored)};
}
template <class T>
std::string big(T value) {
    const T stored = boost::endian::native_to_big(value);
    return {reinterpret_cast<const char*>(&stored), sizeof(stored)};
}

// The low bits of it.
inline std::string little16(std::uint64_t value) { return little(static_cast<std::uint16_t>(value)); }
inline std::string little32(std::uint64_t value) { return little(static_cast<std::uint32_t>(value)); }
inline std::string big16(std::uint64_t value) { return big(static_cast<std::uint16_t>(value)); }
inline std::string big32(std::uint64_t value) { return big(static_cast<std::uint32_t>(value)); }

}  // namespace dredger::repairing
