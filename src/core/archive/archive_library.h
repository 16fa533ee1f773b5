// libarchive, loaded when a source archive is first unpacked.
#pragma once

#include <archive.h>
#include <archive_entry.h>

namespace hambrel::archive {

/// The functions in use, under their own names without "archive_".
struct ArchiveLibrary {
  decltype(&::archive_read_new) read_new;
  decltype(&::archive_read_free) read_free;
  decltype(&::archive_read_support_filter_all) read_support_filter_all;
  decltype(&::archive_read_support_format_tar) read_support_format_tar;
  decltype(&::archive_read_support_format_zip) read_support_format_zip;
  decltype(&::archive_read_open) read_open;
  decltype(&::archive_read_next_header) read_next_header;
  decltype(&::archive_read_data) read_data;
  decltype(&::archive_error_string) error_string;
  decltype(&::archive_set_error) set_error;
  decltype(&::archive_entry_pathname) entry_pathname;
  decltype(&::archive_entry_filetype) entry_filetype;
  decltype(&::archive_entry_perm) entry_perm;
  decltype(&::archive_entry_mtime) entry_mtime;
  decltype(&::archive_entry_symlink) entry_symlink;
  decltype(&::archive_entry_hardlink) entry_hardlink;
};

/// Loads the library the first time. Throws Error{Internal} if it is not there.
const ArchiveLibrary& archive_library();

}  // namespace hambrel::archive
