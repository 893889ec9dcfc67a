// Packs what is left of a packed stream again, in the same way.
#pragma once

#include <memory>
#include <string_view>

#include "base/stream_decoder.h"
#include "repairing/workbench.h"

namespace dredger::repairing {

class Repacking {
  public:
    // `packing`: gzip, bzip2, xz or zstd. The output must outlive it.
    Repacking(Packing packing, Output& output);
    ~Repacking();
    void add(std::string_view bytes);
    // Writes what is still held back, and the end. Nothing can be added from then on.
    void finish();

    struct Packer;  // of one library

  private:
    std::unique_ptr<Packer> packer_;
};

}  // namespace dredger::repairing
