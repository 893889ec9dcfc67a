#include "scanning/wanted_finds.h"

namespace dredger {

Result<bool> WantedFinds::is_over(const Catalog& catalog) {
    if (name_.empty() && count_ == 0) return false;
    Selection wanted;
    if (!name_.empty()) wanted.names = {name_};
    DREDGER_TRY(const std::int64_t next, catalog.next_id());
    DREDGER_TRY(const std::int64_t more, catalog.count(wanted, looked_at_));
    looked_at_ = next - 1;
    found_ += static_cast<std::uint64_t>(more);
    return found_ >= std::max<std::uint64_t>(count_, 1);
}

}  // namespace dredger
