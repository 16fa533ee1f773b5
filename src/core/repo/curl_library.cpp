#include "repo/curl_library.h"

#include "base/error.h"
#include "base/shared_library.h"

namespace hambrel::repo {

namespace {

constexpr const char* kLibrary = "libcurl.so.4";  // the name that its interface has had since 2006

CurlLibrary load_curl() {
  const SharedLibrary library(kLibrary, "install libcurl; nothing can be fetched without it");
  CurlLibrary all{};
  library.find("curl_global_init", all.global_init);
  library.find("curl_easy_init", all.easy_init);
  library.find("curl_easy_cleanup", all.easy_cleanup);
  library.find("curl_easy_setopt", all.easy_setopt);
  library.find("curl_easy_getinfo", all.easy_getinfo);
  library.find("curl_easy_strerror", all.easy_strerror);
  library.find("curl_easy_pause", all.easy_pause);
  library.find("curl_slist_append", all.slist_append);
  library.find("curl_slist_free_all", all.slist_free_all);
  library.find("curl_multi_init", all.multi_init);
  library.find("curl_multi_cleanup", all.multi_cleanup);
  library.find("curl_multi_add_handle", all.multi_add_handle);
  library.find("curl_multi_remove_handle", all.multi_remove_handle);
  library.find("curl_multi_perform", all.multi_perform);
  library.find("curl_multi_info_read", all.multi_info_read);
  library.find("curl_multi_poll", all.multi_poll);
  library.find("curl_multi_wakeup", all.multi_wakeup);
  library.find("curl_multi_setopt", all.multi_setopt);
  if (all.global_init(CURL_GLOBAL_DEFAULT) != CURLE_OK) throw Error(ErrorCode::Internal, "does not start", kLibrary);
  return all;
}

}  // namespace

const CurlLibrary& curl_library() {
  static const CurlLibrary library = load_curl();
  return library;
}

}  // namespace hambrel::repo
