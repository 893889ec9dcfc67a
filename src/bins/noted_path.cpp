#include "bins/noted_path.h"

#include <algorithm>

#include "base/text.h"

namespace dredger {

bool is_number(std::string_view text) {
    return !text.empty() && text.find_first_not_of("0123456789") == std::string_view::npos;
}

std::string plain_path(std::string_view noted) {
    std::string path;
    for (std::size_t from = 0; from <= noted.size();) {
        const std::size_t end = std::min(noted.find('/', from), noted.size());
        const std::string_view one = noted.substr(from, end - from);
        from = end + 1;
        if (!one.empty() && one != "." && one != "..") path = joined(path, one);
    }
    return path;
}

}  // namespace dredger
