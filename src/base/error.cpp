#include "base/error.h"

#include <algorithm>
#include <cerrno>
#include <cstring>

namespace dredger {

bool is_want_of_room(int reason) { return reason == ENOSPC || reason == EDQUOT || reason == EFBIG; }

bool is_failure_of_drive(int reason) {
    constexpr int kFailures[] = {EIO, ENXIO, ENODEV, ENODATA, EREMOTEIO, ETIMEDOUT, ESTALE, ENOTCONN};
    return std::find(std::begin(kFailures), std::end(kFailures), reason) != std::end(kFailures);
}

tl::unexpected<Error> not_written(std::string what, std::string where, std::string hint) {
    return not_written(std::move(what), std::move(where), std::move(hint), errno);
}

tl::unexpected<Error> not_written(std::string what, std::string where, std::string hint, int reason) {
    if (reason != 0) what += std::string(" (") + std::strerror(reason) + ")";
    const bool is_of_drive = is_want_of_room(reason) || is_failure_of_drive(reason);
    return fail(is_of_drive ? ErrorKind::gave_out : ErrorKind::output, std::move(what), std::move(where),
                std::move(hint));
}

}  // namespace dredger
