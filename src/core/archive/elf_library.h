// libelf, loaded when the first file of that format is looked into.
#pragma once

#include <gelf.h>
#include <libelf.h>

namespace hambrel::archive {

/// The functions in use, under their own names.
struct ElfLibrary {
  decltype(&::elf_memory) elf_memory;
  decltype(&::elf_end) elf_end;
  decltype(&::elf_kind) elf_kind;
  decltype(&::elf_nextscn) elf_nextscn;
  decltype(&::elf_getdata) elf_getdata;
  decltype(&::elf_strptr) elf_strptr;
  decltype(&::gelf_getshdr) gelf_getshdr;
  decltype(&::gelf_getdyn) gelf_getdyn;
};

/// Loads the library the first time. Throws Error{Internal} if it is not there.
const ElfLibrary& elf_library();

}  // namespace hambrel::archive
