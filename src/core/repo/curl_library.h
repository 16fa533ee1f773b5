// libcurl, loaded when something is first fetched: it brings thirty libraries along, which would cost every run of the
// program more than most of its commands take.
#pragma once

#define CURL_DISABLE_TYPECHECK  // the macros would call the functions by name
#include <curl/curl.h>

namespace hambrel::repo {

/// The functions in use, under their own names without "curl_".
struct CurlLibrary {
  decltype(&::curl_global_init) global_init;
  decltype(&::curl_easy_init) easy_init;
  decltype(&::curl_easy_cleanup) easy_cleanup;
  decltype(&::curl_easy_setopt) easy_setopt;
  decltype(&::curl_easy_getinfo) easy_getinfo;
  decltype(&::curl_easy_strerror) easy_strerror;
  decltype(&::curl_easy_pause) easy_pause;
  decltype(&::curl_slist_append) slist_append;
  decltype(&::curl_slist_free_all) slist_free_all;
  decltype(&::curl_multi_init) multi_init;
  decltype(&::curl_multi_cleanup) multi_cleanup;
  decltype(&::curl_multi_add_handle) multi_add_handle;
  decltype(&::curl_multi_remove_handle) multi_remove_handle;
  decltype(&::curl_multi_perform) multi_perform;
  decltype(&::curl_multi_info_read) multi_info_read;
  decltype(&::curl_multi_poll) multi_poll;
  decltype(&::curl_multi_wakeup) multi_wakeup;
  decltype(&::curl_multi_setopt) multi_setopt;
};

/// Loads the library the first time. Throws Error{Internal} if it is not there.
const CurlLibrary& curl_library();

}  // namespace hambrel::repo
