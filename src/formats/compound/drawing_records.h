// Records of drawings in office documents ([MS-ODRAW] 2.2, [MS-PPT] 2.3.1): version and instance, type, and a length of
// four bytes; those of version 15 hold others.
#pragma once

#include <set>

#include "formats/compound/look.h"

namespace dredger::formats {

class DrawingRecords {
  public:
    static constexpr std::uint64_t kHead = 8;  // bytes in front of what is in a record

    // `least`: the least type that there may be.
    explicit DrawingRecords(const Look& look, unsigned least = kLeastOfDrawing) : look_(look), least_(least) {}

    // Those in [from, to), and the pictures in them. False where one makes no sense; zeros end them.
    bool walk(std::uint64_t from, std::uint64_t to);
    // Where those that were walked begin.
    const std::set<std::uint64_t>& starts() const { return starts_; }
    // Where pictures lie that are told of but kept in another stream.
    const std::vector<std::uint64_t>& kept_elsewhere() const { return kept_elsewhere_; }

    // The picture whose record begins at `at`, if one does.
    static void look_at_picture(const Look& look, std::uint64_t at);

  private:
    static constexpr unsigned kLeastOfDrawing = 0xF000;

    const Look& look_;
    unsigned least_;
    std::set<std::uint64_t> starts_;
    std::vector<std::uint64_t> kept_elsewhere_;
};

}  // namespace dredger::formats
