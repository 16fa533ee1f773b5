#include "operations/repositories.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "os/host.h"
#include "repo/source.h"
#include "repo/transfer.h"
#include "repo/trusted.h"
#include "trust/documents.h"
#include "trust/root.h"

namespace hambrel::operations {

namespace {

/// As the settings have it, with what is wrong told.
Repository checked(const Repository& repository) {
  Repository checked = repository;
  checked.url = settings::checked_url(repository.url);
  for (const std::string& channel : repository.channels)
    if (!is_package_name(channel))
      throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the name of a channel", printable(channel)), {},
                  "for example --channels stable,beta");
  if (repository.rank < 1 || repository.rank > 99)
    throw Error(ErrorCode::Usage, fmt::format("{} is not a valid rank", repository.rank), {},
                "a number from 1 to 99; smaller is preferred");
  return checked;
}

/// What the cache has of its index: it is fetched anew, and verified.
void forget_index(Root& root, const std::string& name) {
  root.files().remove_tree(fmt::format("{}/{}", repo::kIndexCache, name));
}

/// A small document of a repository; nothing where there is none.
std::optional<std::string> fetched(Root& root, const std::string& url) {
  const auto& limits = root.settings().fetch;
  std::string text;
  std::vector<repo::Request> requests(1);
  requests[0].url = url;
  requests[0].limit = trust::kMostMetadataBytes;
  requests[0].pace = {limits.least_rate, limits.window_seconds, limits.document_seconds};
  requests[0].sink = [&](std::string_view data) { text += data; };
  repo::fetch_all(requests, 1, root.observer());
  if (requests[0].absent) return std::nullopt;
  if (requests[0].problem) throw Error(*requests[0].problem);
  return text;
}

constexpr trust::Root::Of kRoles[] = {trust::Root::Of::Root, trust::Root::Of::Targets, trust::Root::Of::Snapshot,
                                      trust::Root::Of::Timestamp};

}  // namespace

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

const std::vector<CachedIndex>& repositories(Root& root) { return root.catalog().indexes; }

void require_addable(Root& root, const Repository& repository) {
  settings::require_free_name(root.files(), repository.name);
  checked(repository);
}

void add_repository(Root& root, const Repository& repository) {
  settings::add_repository(root.files(), checked(repository));
}

void add_repository(Root& root, const Repository& repository, const OfferedRoot& first) {
  // the file last: there is no moment at which it is there and not trusted
  require_addable(root, repository);
  const Repository good = checked(repository);
  repo::TrustedRepository::trust(root.files(), good.name, trust::Root::first(first.document, good.name));
  settings::add_repository(root.files(), good);
}

void drop_repository(Root& root, const std::string& name) {
  settings::drop_repository(root.files(), name);
  forget_index(root, name);
  repo::TrustedRepository::forget(root.files(), name);
}

void set_enabled(Root& root, const std::string& name, bool enabled) {
  settings::set_enabled(root.files(), name, enabled);
}

OfferedRoot offered_root(Root& root, const Repository& repository) {
  const std::string url = checked(repository).url + "/trust/1.root.json";
  const std::optional<std::string> text = fetched(root, url);
  if (!text && !fetched(root, checked(repository).url + "/" + trust::kTimestampPath))
    throw Error(ErrorCode::NotFound, "there is no repository here", shown_url(repository.url), "check the URL");
  if (!text)
    throw Error(ErrorCode::NotFound, "the repository is not signed: it has no root document", shown_url(url),
                "ask its maintainer to sign it; to accept its packages without signatures: --unsigned");
  const trust::Root first = trust::Root::first(*text, shown_url(url));
  OfferedRoot offered{
      first.version(),        first.document().expires(), first.document().fingerprint(), first.fingerprint_text(), {},
      first.document().text()};
  for (const auto role : kRoles)
    offered.roles.push_back({trust::Root::name_of(role), first.role(role).threshold, first.role(role).keys});
  return offered;
}

void trust_root(Root& root, const std::string& name, const OfferedRoot& first) {
  const Repository known = repository_named(root, name);
  forget_index(root, known.name);
  repo::TrustedRepository::trust(root.files(), known.name, trust::Root::first(first.document, known.name));
  if (known.accepts_unsigned) settings::set_accepts_unsigned(root.files(), known.name, false);
}

std::string trust_damage(Root& root, const std::string& name) {
  try {
    repo::TrustedRepository::read(root.files(), name);
    return {};
  } catch (const Error& problem) {
    return problem.what();
  }
}

const char* doubt_of(const CachedIndex& index) {
  if (index.repository.accepts_unsigned) return "not signed";
  return index.root == 0 && index.version != 0 ? "not verified" : "";
}

RepositoryFacts facts_of(Root& root, const std::string& name) {
  const Repository& repository = repository_named(root, name);
  RepositoryFacts facts;
  for (const CachedIndex& index : repositories(root))
    if (index.repository.name == repository.name) facts.index = index;
  facts.bytes = facts.index.bytes;
  const Universe& universe = root.universe();
  std::set<std::string_view> installed, offered;
  for (const PackageId id : universe.all())
    for (std::size_t i = 0; i < universe.offer_count(id); ++i) {
      if (universe.offer(id, i).repository != repository.name) continue;
      offered.insert(universe.name(id));
      if (universe.is_installed(id)) installed.insert(universe.name(id));
    }
  facts.installed = installed.size();
  facts.offered = offered.size();
  try {
    const auto trusted = repo::TrustedRepository::read(root.files(), repository.name);
    if (!trusted) return facts;
    facts.root = trusted->root().version();
    facts.fingerprint_text = trust::grouped(trusted->first());
    for (const auto role : kRoles) {
      const auto& [threshold_keys, threshold] = trusted->root().role(role);
      const bool is_root = role == trust::Root::Of::Root;
      facts.roles.push_back({trust::Root::name_of(role), threshold, threshold_keys,
                             is_root ? facts.root : trusted->seen(role).version,
                             is_root ? trusted->root().document().expires() : trusted->seen(role).expires});
    }
  } catch (const Error& problem) {
    facts.damage = problem.what();
  }
  return facts;
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
