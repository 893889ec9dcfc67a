// Memory at addresses that reads past the kernel's memory can take.
#pragma once

#include <cstddef>
#include <new>
#include <vector>

namespace dredger {

template <class T>
struct PageAllocator {
    using value_type = T;
    static constexpr std::align_val_t kPage{4096};

    PageAllocator() = default;
    template <class U>
    explicit PageAllocator(const PageAllocator<U>&) {}

    T* allocate(std::size_t count) { return static_cast<T*>(::operator new(count * sizeof(T), kPage)); }
    void deallocate(T* place, std::size_t) { ::operator delete(place, kPage); }
    bool operator==(const PageAllocator&) const { return true; }
};

using AlignedBytes = std::vector<std::byte, PageAllocator<std::byte>>;

}  // namespace dredger
