#include "archive/archive_library.h"

#include "base/shared_library.h"

namespace hambrel::archive {

namespace {

ArchiveLibrary load_archive() {
  const SharedLibrary library("libarchive.so.13", "install libarchive; source archives cannot be unpacked without it");
  ArchiveLibrary all{};
  library.find("archive_read_new", all.read_new);
  library.find("archive_read_free", all.read_free);
  library.find("archive_read_support_filter_all", all.read_support_filter_all);
  library.find("archive_read_support_format_tar", all.read_support_format_tar);
  library.find("archive_read_support_format_zip", all.read_support_format_zip);
  library.find("archive_read_open", all.read_open);
  library.find("archive_read_next_header", all.read_next_header);
  library.find("archive_read_data", all.read_data);
  library.find("archive_error_string", all.error_string);
  library.find("archive_set_error", all.set_error);
  library.find("archive_entry_pathname", all.entry_pathname);
  library.find("archive_entry_filetype", all.entry_filetype);
  library.find("archive_entry_perm", all.entry_perm);
  library.find("archive_entry_mtime", all.entry_mtime);
  library.find("archive_entry_symlink", all.entry_symlink);
  library.find("archive_entry_hardlink", all.entry_hardlink);
  return all;
}

}  // namespace

const ArchiveLibrary& archive_library() {
  static const ArchiveLibrary library = load_archive();
  return library;
}

}  // namespace hambrel::archive
