// The entry of libFuzzer (LLVM, "libFuzzer: a library for coverage-guided fuzz testing").
#include <algorithm>
#include <cstdint>

#include "fuzz/targets.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    using namespace dredger::fuzz;
    static const Target& target = *std::find_if(targets().begin(), targets().end(),
                                                [](const Target& t) { return t.name == DREDGER_FUZZ_TARGET; });
    target.run({reinterpret_cast<const std::byte*>(data), size});
    return 0;
}
