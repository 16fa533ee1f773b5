#include "base/selinux_library.h"

#include "base/shared_library.h"

namespace hambrel {

namespace {

SelinuxLibrary load_selinux() {
  const SharedLibrary library("libselinux.so.1", "install libselinux, which knows the labels of files");
  SelinuxLibrary all{};
  library.find("selabel_open", all.open);
  library.find("selabel_close", all.close);
  library.find("selabel_lookup_raw", all.lookup_raw);
  library.find("freecon", all.freecon);
  return all;
}

}  // namespace

const SelinuxLibrary& selinux_library() {
  static const SelinuxLibrary library = load_selinux();
  return library;
}

}  // namespace hambrel
