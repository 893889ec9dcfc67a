// A sample, damaged and mended in memory.
#pragma once

#include <functional>

#include "repairing/mending.h"
#include "support/support.h"

namespace dredger::test {

using Bytes = std::vector<std::byte>;

const Bytes& sample(const std::string& name);

struct MendedBytes {
    repairing::Mended done;
    Bytes result;  // empty: there is none
    std::map<std::string, Bytes> beside;
    repairing::Outcome outcome() const { return done.outcome; }
    std::string said() const;  // all that is told of it
};

// Mends a file of this name; the references are samples.
MendedBytes mend(const std::string& name, const Bytes& bytes, const std::vector<std::string>& references = {},
                 std::vector<Extent> holes = {});
MendedBytes mend_with(const std::string& name, const Bytes& bytes, std::vector<repairing::Reference> references,
                      std::vector<Extent> holes = {});

// Damages.
Bytes cut(Bytes bytes, std::size_t length);
Bytes without(Bytes bytes, std::size_t at, std::size_t length);
Bytes zeroed(Bytes bytes, std::size_t at, std::size_t length);
Bytes with_noise(Bytes bytes, std::size_t at, std::size_t length);
Bytes with_noise_inserted(Bytes bytes, std::size_t at, std::size_t length);

// Where bytes stand in others.
std::size_t place_of(const Bytes& bytes, std::string_view wanted, std::size_t from = 0);
bool holds(const Bytes& bytes, std::string_view wanted);

// What content of a format is as its measurer sees it.
Measured measured(const char* format, const Bytes& bytes);

}  // namespace dredger::test
