// What a process gives up before it looks at hostile content, so that even a decoder that was taken over by it can harm
// nothing. Source: landlock(7), seccomp(2), and libseccomp.
#pragma once

#include <cstdint>
#include <linux/filter.h>
#include <string>
#include <vector>

namespace dredger::preview {

struct SandboxLimits {
    std::uint64_t memory = std::uint64_t{1} << 30;  // bytes of address space beyond what is in use
    unsigned seconds = 20;                          // of computing, and three times that of waiting
};

// The descriptor that is left to a confined process.
inline constexpr int kTie = 3;

// Made once, by whoever starts the processes: what it prepares takes longer than starting one.
class Confinement {
  public:
    Confinement();

    // For a process with one thread that was made for this. Of its descriptors only `tie` is left, as kTie. It keeps no
    // privilege, writes no file, reads only programs' own ones (fonts, libraries), opens no connection, starts no
    // process, sends no signal, and meets the limits. What the kernel lacks of that is left out.
    void enter(int tie, const SandboxLimits& limits) const;

  private:
    std::vector<sock_filter> few_calls_;  // empty: no calls are refused
};

// What this machine's kernel lacks of it, a sentence each.
std::vector<std::string> confinement_lacks();

}  // namespace dredger::preview
