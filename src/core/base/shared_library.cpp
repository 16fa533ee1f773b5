#include "base/shared_library.h"

#include <dlfcn.h>
#include <fmt/format.h>

#include "base/error.h"

namespace hambrel {

SharedLibrary::SharedLibrary(const char* file, const std::string& hint)
    : file_(file), library_(::dlopen(file, RTLD_LAZY | RTLD_LOCAL)) {
  if (library_ == nullptr)
    throw Error(ErrorCode::Internal, fmt::format("cannot be loaded: {}", ::dlerror()), file, hint);
}

void* SharedLibrary::address_of(const char* name) const {
  void* const address = ::dlsym(library_, name);
  if (address == nullptr) throw Error(ErrorCode::Internal, fmt::format("it has no {}", name), file_);
  return address;
}

}  // namespace hambrel
