// Writes ZIP archives (PKWARE APPNOTE 6.3.10), with ZIP64 where numbers ask for it.
#pragma once

#include <functional>
#include <vector>

#include "repairing/archive/zip_headers.h"
#include "repairing/workbench.h"

namespace dredger::repairing {

class ZipWriter {
  public:
    explicit ZipWriter(Output& output) : output_(output) {}

    // An entry whose packed bytes `add_data` adds to the output. Of `header` what names and dates it, its method and
    // what belongs to that, its crc and its unpacked size are taken.
    void add(ZipHeader header, const std::function<void(Output&)>& add_data);
    // Behind the last entry.
    void finish();

  private:
    Output& output_;
    std::vector<ZipHeader> written_;
};

}  // namespace dredger::repairing
