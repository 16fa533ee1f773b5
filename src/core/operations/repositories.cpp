#include "operations/repositories.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "os/host.h"
#include "repo/source.h"
#include "repo/transfer.h"
#include "repo/trusted.h"
#include "trust/documents.h"
#include "trust/root.h"

namespace hambrel::operations {

namespace {

const Repository& repository_named(Root& root, const std::string& name) {
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

const std::vector<CachedIndex>& repositories(Root& root) { return root.catalog().indexes; }

void add_repository(Root& root, const Repository& repository) {
  Repository checked = repository;
  checked.url = settings::checked_url(repository.url);
  for (const std::string& channel : repository.channels)
    if (!is_package_name(channel))
      throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the name of a channel", printable(channel)), {},
                  "for example --channels stable,beta");
  if (repository.rank < 1 || repository.rank > 99)
    throw Error(ErrorCode::Usage, fmt::format("{} is not a valid rank", repository.rank), {},
                "a number from 1 to 99; smaller is preferred");
  settings::add_repository(root.files(), checked);
}

void drop_repository(Root& root, const std::string& name) {
  settings::drop_repository(root.files(), name);
  root.files().remove_tree(fmt::format("{}/{}", repo::kIndexCache, name));
  repo::TrustedRepository::forget(root.files(), name);
}

void set_enabled(Root& root, const std::string& name, bool enabled) {
  settings::set_enabled(root.files(), name, enabled);
}

OfferedRoot offered_root(Root& root, const std::string& name) {
  const std::string url = repository_named(root, name).url + "/trust/1.root.json";
  const auto& limits = root.settings().fetch;
  std::string text;
  std::vector<repo::Request> requests(1);
  requests[0].url = url;
  requests[0].limit = trust::kMostMetadataBytes;
  requests[0].pace = {limits.least_rate, limits.window_seconds, limits.document_seconds};
  requests[0].sink = [&](std::string_view data) { text += data; };
  repo::fetch_all(requests, 1, root.observer());
  if (requests[0].absent)
    throw Error(ErrorCode::NotFound, "the repository is not signed: it has no root document", shown_url(url),
                "ask its maintainer to sign it");
  if (requests[0].problem) throw Error(*requests[0].problem);
  const trust::Root first = trust::Root::first(text, shown_url(url));
  OfferedRoot offered{
      first.version(),        first.document().expires(), first.document().fingerprint(), first.fingerprint_text(), {},
      first.document().text()};
  for (const auto role :
       {trust::Root::Of::Root, trust::Root::Of::Timestamp, trust::Root::Of::Snapshot, trust::Root::Of::Targets})
    offered.roles.push_back({trust::Root::name_of(role), first.role(role).threshold, first.role(role).keys});
  return offered;
}

void trust_root(Root& root, const std::string& name, const OfferedRoot& first) {
  const std::string& known = repository_named(root, name).name;
  repo::TrustedRepository::trust(root.files(), known, trust::Root::first(first.document, known));
}

Verified verified(Root& root, const std::string& name) {
  try {
    const auto trusted = repo::TrustedRepository::read(root.files(), name);
    return {trusted ? trusted->root().version() : 0};
  } catch (const Error& problem) {
    return {0, problem.what()};
  }
}

std::vector<RefreshResult> refresh(Root& root, const std::vector<std::string>& names) {
  std::vector<Repository> wanted;
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
