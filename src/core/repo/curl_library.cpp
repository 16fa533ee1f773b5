#include "repo/curl_library.h"

#include <dlfcn.h>
#include <fmt/format.h>

#include "base/error.h"

namespace hambrel::repo {

namespace {

constexpr const char* kFile = "libcurl.so.4";  // the name that its interface has had since 2006

template <typename Function>
void find(void* library, const char* name, Function& function) {
  function = reinterpret_cast<Function>(::dlsym(library, name));
  if (function == nullptr) throw Error(ErrorCode::Internal, fmt::format("it has no {}", name), kFile);
}

CurlLibrary load() {
  void* const library = ::dlopen(kFile, RTLD_LAZY | RTLD_LOCAL);
  if (library == nullptr)
    throw Error(ErrorCode::Internal, fmt::format("cannot be loaded: {}", ::dlerror()), kFile,
                "install libcurl; nothing can be fetched without it");
  CurlLibrary all{};
  find(library, "curl_global_init", all.global_init);
  find(library, "curl_easy_init", all.easy_init);
  find(library, "curl_easy_cleanup", all.easy_cleanup);
  find(library, "curl_easy_setopt", all.easy_setopt);
  find(library, "curl_easy_getinfo", all.easy_getinfo);
  find(library, "curl_easy_strerror", all.easy_strerror);
  find(library, "curl_multi_init", all.multi_init);
  find(library, "curl_multi_cleanup", all.multi_cleanup);
  find(library, "curl_multi_add_handle", all.multi_add_handle);
  find(library, "curl_multi_remove_handle", all.multi_remove_handle);
  find(library, "curl_multi_perform", all.multi_perform);
  find(library, "curl_multi_info_read", all.multi_info_read);
  find(library, "curl_multi_poll", all.multi_poll);
  if (all.global_init(CURL_GLOBAL_DEFAULT) != CURLE_OK) throw Error(ErrorCode::Internal, "does not start", kFile);
  return all;
}

}  // namespace

const CurlLibrary& curl_library() {
  static const CurlLibrary library = load();
  return library;
}

}  // namespace hambrel::repo
