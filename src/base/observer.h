// How long work reports and is stopped. The command line implements it; tests do too.
#pragma once

#include <cstdint>
#include <string>

namespace dredger {

struct Progress {
    const char* doing;        // "reading records"
    std::uint64_t done = 0;   // in `unit`
    std::uint64_t total = 0;  // 0: not known
    const char* unit = "";    // "records", "bytes"
    std::uint64_t finds = 0;  // candidates that are not live, so far
    std::string detail = {};  // of the finds: "picture 12, document 3"
};

class Observer {
  public:
    virtual ~Observer() = default;
    virtual void progress(const Progress& progress) = 0;
    virtual void warning(const std::string& sentence) = 0;
    // Asked often; once true it stays true.
    virtual bool should_stop() = 0;
};

}  // namespace dredger
