// Libraries that are loaded when they are first needed, because they bring many others along.
#pragma once

#include <string>

namespace hambrel {

class SharedLibrary {
 public:
  /// Throws Error{Internal} with the hint if it is not there. It stays for as long as the process lives.
  SharedLibrary(const char* file, const std::string& hint);
  /// Throws Error{Internal} if the library has no such function.
  template <typename Function>
  void find(const char* name, Function& function) const {
    function = reinterpret_cast<Function>(address_of(name));
  }

 private:
  void* address_of(const char* name) const;

  const char* file_;
  void* library_;
};

}  // namespace hambrel
