// libselinux, loaded where a root has security labels: few have.
#pragma once

#include <selinux/label.h>

namespace hambrel {

/// The functions in use, under their own names without "selabel_".
struct SelinuxLibrary {
  decltype(&::selabel_open) open;
  decltype(&::selabel_close) close;
  decltype(&::selabel_lookup_raw) lookup_raw;
  void (*freecon)(char*);
};

/// Loads the library the first time. Throws Error{Internal} if it is not there.
const SelinuxLibrary& selinux_library();

}  // namespace hambrel
