#include "base/bytes.h"

#include <fmt/format.h>

namespace dredger {

tl::unexpected<Error> ByteView::past_end(std::size_t offset, std::size_t length) const {
    return fail(ErrorKind::not_understood, fmt::format("a structure of {} bytes reaches past its {}", length, size()),
                fmt::format("offset {}", origin_ + offset));
}

}  // namespace dredger
