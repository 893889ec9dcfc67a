#include "base/late_library.h"

#include <dlfcn.h>

namespace dredger {

LateLibrary::LateLibrary(const char* name) : handle_(::dlopen(name, RTLD_NOW | RTLD_LOCAL)) {}

void* LateLibrary::address_of(const char* name) const { return handle_ == nullptr ? nullptr : ::dlsym(handle_, name); }

}  // namespace dredger
