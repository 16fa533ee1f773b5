#include "operations/repositories.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "os/host.h"

namespace hambrel::operations {

namespace {

const repo::Repository& repository_named(Root& root, const std::string& name) {
  const auto& all = root.repositories();
  const auto found = std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.name == name; });
  if (found != all.end()) return *found;
  std::vector<std::string> names;
  for (const auto& one : all) names.push_back(one.name);
  const std::string near = did_you_mean(name, names);
  throw Error(ErrorCode::NotFound, fmt::format("no repository is called \"{}\"", printable(name)), {},
              near.empty() ? "`hambrel repo list` shows them" : near);
}

}  // namespace

std::vector<repo::RefreshResult> refresh(Root& root, const std::vector<std::string>& names) {
  std::vector<repo::Repository> wanted;
  for (const std::string& name : names) wanted.push_back(repository_named(root, name));
  if (names.empty())
    for (const auto& one : root.repositories())
      if (one.enabled) wanted.push_back(one);
  if (wanted.empty()) return {};
  return repo::refresh(root.files(), wanted, root.repositories(), root.settings().downloads, os::now(), root.observer(),
                       root.settings().fetch);
}

std::size_t count_newer(Root& root) {
  const Universe& universe = root.universe();
  const auto installed = universe.installed();
  return static_cast<std::size_t>(
      std::count_if(installed.begin(), installed.end(), [&](PackageId id) { return universe.newer_offer(id); }));
}

}  // namespace hambrel::operations
