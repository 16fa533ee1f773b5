#include "archive/elf_library.h"

#include "base/error.h"
#include "base/shared_library.h"

namespace hambrel::archive {

namespace {

constexpr const char* kFile = "libelf.so.1";

ElfLibrary load_elf() {
  const SharedLibrary library(kFile, "install libelf; what programs need cannot be found out without it");
  decltype(&::elf_version) version{};
  ElfLibrary all{};
  library.find("elf_version", version);
  library.find("elf_memory", all.elf_memory);
  library.find("elf_end", all.elf_end);
  library.find("elf_kind", all.elf_kind);
  library.find("elf_nextscn", all.elf_nextscn);
  library.find("elf_getdata", all.elf_getdata);
  library.find("elf_strptr", all.elf_strptr);
  library.find("gelf_getshdr", all.gelf_getshdr);
  library.find("gelf_getdyn", all.gelf_getdyn);
  if (version(EV_CURRENT) == EV_NONE) throw Error(ErrorCode::Internal, "is too old", kFile);
  return all;
}

}  // namespace

const ElfLibrary& elf_library() {
  static const ElfLibrary library = load_elf();
  return library;
}

}  // namespace hambrel::archive
