// A shared library that is loaded when it is first asked for: of the hundred libraries that decode films, a command
// that looks at none needs none, and starts so much sooner.
#pragma once

namespace dredger {

class LateLibrary {
  public:
    // By the name that its binary interface bears ("libheif.so.1").
    explicit LateLibrary(const char* name);
    LateLibrary(const LateLibrary&) = delete;
    LateLibrary& operator=(const LateLibrary&) = delete;

    bool is_there() const { return handle_ != nullptr; }
    // Null where the library is not there, or has no such function.
    template <class Function>
    Function* function(const char* name) const {
        return reinterpret_cast<Function*>(address_of(name));
    }

  private:
    void* address_of(const char* name) const;

    void* handle_;  // stays open: what it registered with the program outlives this
};

}  // namespace dredger
