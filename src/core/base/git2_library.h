// libgit2, loaded when two texts are first compared: it brings twenty libraries along.
#pragma once

#include <git2.h>

namespace hambrel {

/// The functions in use, under their own names without "git_".
struct Git2Library {
  decltype(&::git_merge_file) merge_file;
  decltype(&::git_merge_file_result_free) merge_file_result_free;
  decltype(&::git_patch_from_buffers) patch_from_buffers;
  decltype(&::git_patch_print) patch_print;
  decltype(&::git_patch_free) patch_free;
};

/// Loads the library the first time. Throws Error{Internal} if it is not there.
const Git2Library& git2_library();

}  // namespace hambrel
