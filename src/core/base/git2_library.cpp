#include "base/git2_library.h"

#include <dlfcn.h>
#include <fmt/format.h>

#include "base/error.h"

namespace hambrel {

namespace {

template <typename Function>
void find(void* library, const char* name, Function& function) {
  function = reinterpret_cast<Function>(::dlsym(library, name));
  if (function == nullptr) throw Error(ErrorCode::Internal, fmt::format("it has no {}", name), HAMBREL_GIT2_FILE);
}

Git2Library load() {
  void* const library = ::dlopen(HAMBREL_GIT2_FILE, RTLD_LAZY | RTLD_LOCAL);
  if (library == nullptr)
    throw Error(ErrorCode::Internal, fmt::format("cannot be loaded: {}", ::dlerror()), HAMBREL_GIT2_FILE,
                "install libgit2; texts can't be compared or merged without it");
  decltype(&::git_libgit2_init) init{};
  Git2Library all{};
  find(library, "git_libgit2_init", init);
  find(library, "git_merge_file", all.merge_file);
  find(library, "git_merge_file_result_free", all.merge_file_result_free);
  find(library, "git_patch_from_buffers", all.patch_from_buffers);
  find(library, "git_patch_print", all.patch_print);
  find(library, "git_patch_free", all.patch_free);
  if (init() < 0) throw Error(ErrorCode::Internal, "does not start", HAMBREL_GIT2_FILE);
  return all;
}

}  // namespace

const Git2Library& git2_library() {
  static const Git2Library library = load();
  return library;
}

}  // namespace hambrel
