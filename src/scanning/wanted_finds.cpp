#include "scanning/wanted_finds.h"

namespace dredger {

Result<bool> WantedFinds::is_over(const Catalog& catalog) {
    if (!wanted_) return false;
    DREDGER_TRY(const std::int64_t next, catalog.next_id());
    DREDGER_TRY(const std::int64_t more, catalog.count(*wanted_, looked_at_));
    looked_at_ = next - 1;
    found_ += static_cast<std::uint64_t>(more);
    return found_ >= count_;
}

}  // namespace dredger
