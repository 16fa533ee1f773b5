// What repositories tell beside their packages, as the cache of a root has it: advisories and news.
#pragma once

#include <vector>

#include "model/advisory.h"
#include "os/file_system.h"
#include "repo/refresh_step.h"

namespace hambrel::repo {

/// Brings what the targets of these steps name into the cache; a failure ends that step. What is new of the news is
/// left in its result.
void fetch_notes(os::FileSystem& root, Network& network, std::vector<Step>& steps, Observer& observer);

/// One of these files, as the cache has it. Throws Error{Untrusted} where that is damaged.
std::string text_in_cache(os::FileReader& root, const std::string& repository, const trust::Pointer& pointer);
/// Of one repository; nothing where there is none. Throws as above.
std::vector<NewsItem> news_of(os::FileReader& root, const settings::Repository& repository);

}  // namespace hambrel::repo
