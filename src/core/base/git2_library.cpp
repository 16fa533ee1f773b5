#include "base/git2_library.h"

#include "base/error.h"
#include "base/shared_library.h"

namespace hambrel {

namespace {

Git2Library load_git2() {
  const SharedLibrary library(HAMBREL_GIT2_FILE, "install libgit2; texts cannot be compared or merged without it");
  decltype(&::git_libgit2_init) init{};
  Git2Library all{};
  library.find("git_libgit2_init", init);
  library.find("git_merge_file", all.merge_file);
  library.find("git_merge_file_result_free", all.merge_file_result_free);
  library.find("git_patch_from_buffers", all.patch_from_buffers);
  library.find("git_patch_print", all.patch_print);
  library.find("git_patch_free", all.patch_free);
  if (init() < 0) throw Error(ErrorCode::Internal, "does not start", HAMBREL_GIT2_FILE);
  return all;
}

}  // namespace

const Git2Library& git2_library() {
  static const Git2Library library = load_git2();
  return library;
}

}  // namespace hambrel
