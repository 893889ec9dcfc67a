// The volume's table of upper-case letters, which name hashes are made with (7.2).
#pragma once

#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace dredger::exfat {

class Upcase {
  public:
    // Without a table only the letters of ASCII have an upper case.
    Upcase();
    // The table as it stands on the volume, where runs of letters that are their own upper case are left out.
    static Upcase parse(ByteView table);

    // 7.6.4
    std::uint16_t hash(std::u16string_view name) const;

  private:
    std::vector<char16_t> upper_;  // by letter
};

// 7.2.2
std::uint32_t table_checksum(ByteView table);

}  // namespace dredger::exfat
