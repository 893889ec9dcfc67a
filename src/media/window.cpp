#include "media/window.h"

#include <algorithm>

namespace dredger {

Window::Window(MediumPtr whole, std::uint64_t offset, std::uint64_t length)
    : whole_(std::move(whole)),
      offset_(std::min(offset, whole_->size())),
      length_(std::min(length, whole_->size() - offset_)) {}

void Window::expect(std::uint64_t offset, std::uint64_t length) const { whole_->expect(offset_ + offset, length); }

void Window::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    const std::size_t before = bad.size();
    whole_->add_known_bad(offset_ + offset, length, bad);
    for (std::size_t i = before; i < bad.size(); ++i) bad[i].offset -= offset_;
}

Result<void> Window::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    const std::size_t before = bad.size();
    DREDGER_CHECK(whole_->read(offset_ + offset, into, &bad));
    for (std::size_t i = before; i < bad.size(); ++i) bad[i].offset -= offset_;
    return {};
}

}  // namespace dredger
