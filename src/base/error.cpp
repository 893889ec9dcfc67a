#include "base/error.h"

#include <cerrno>
#include <cstring>

namespace dredger {

tl::unexpected<Error> not_written(std::string what, std::string where, std::string hint) {
    return not_written(std::move(what), std::move(where), std::move(hint), errno);
}

tl::unexpected<Error> not_written(std::string what, std::string where, std::string hint, int reason) {
    const bool is_full = reason == ENOSPC || reason == EDQUOT || reason == EFBIG;
    if (reason != 0) what += std::string(" (") + std::strerror(reason) + ")";
    return fail(is_full ? ErrorKind::full : ErrorKind::output, std::move(what), std::move(where), std::move(hint));
}

}  // namespace dredger
