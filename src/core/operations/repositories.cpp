#include "operations/repositories.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/assert.h"
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
  HAMBREL_ASSERT(is_package_name(name), "its directory is one of the cache's");
  root.files().remove_tree(fmt::format("{}/{}", repo::kIndexCache, name));
}

/// A small document of a repository; nothing where there is none.
std::optional<std::string> fetched(Root& root, const Repository& repository, const char* path) {
  std::string text;
  std::vector<repo::Request> requests{root.network().request(repository, path, trust::kMostMetadataBytes)};
  requests[0].sink = [&](std::string_view data) { text += data; };
  requests[0].again = [&] { text.clear(); };
  root.network().fetch(requests, root.observer());
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

namespace {

/// Throws what is wrong with its file.
const Repository& usable(const Repository& repository) {
  if (!repository.problem.empty())
    throw Error(ErrorCode::Invalid, repository.problem, {}, "fix the file; see docs/sources.md for what it may say");
  return repository;
}

}  // namespace

const std::vector<CachedIndex>& repositories(Root& root) { return root.catalog().indexes; }

void require_addable(Root& root, const Repository& repository) {
  settings::require_free_name(root.files(), repository.name);
  checked(repository);
}

namespace {

void write_given(Root& root, const GivenRepository& given) {
  if (given.text.empty())
    settings::add_repository(root.files(), checked(given.repository));
  else
    settings::add_repository_file(root.files(), given.repository.name, given.text);
  root.forget_repositories();
}

}  // namespace

GivenRepository repository_in(const std::string& file, const std::string& name) {
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(file);
  if (!host->stat_followed(path))
    throw Error(ErrorCode::NotFound, "the file of a repository does not exist", file,
                "give a URL such as https://HOST/PATH, or a file such as those in /etc/hambrel/repos");
  constexpr std::uint64_t kMostBytes = 1 << 20;
  return {settings::read_repository_file(*host, path, name), host->read_all(path, kMostBytes)};
}

void add_repository(Root& root, const GivenRepository& given) {
  require_addable(root, given.repository);
  write_given(root, given);
}

void add_repository(Root& root, const GivenRepository& given, const OfferedRoot& first) {
  // the file last: there is no moment at which it is there and not trusted
  require_addable(root, given.repository);
  const std::string& name = given.repository.name;
  repo::TrustedRepository::trust(root.files(), name, trust::Root::first(first.document, name));
  write_given(root, given);
}

std::vector<std::string> only_from(Root& root, const std::string& repository) {
  const Universe& universe = root.universe();
  std::set<std::string> others;  // the catalogue may still hold what was dropped
  for (const Repository& one : root.repositories())
    if (one.enabled && one.name != repository) others.insert(one.name);
  const auto is_offered_by = [&](PackageId id, bool by_it) {
    for (std::size_t i = 0; i < universe.offer_count(id); ++i) {
      const std::string from(universe.offer(id, i).repository);
      if (by_it ? from == repository : others.contains(from)) return true;
    }
    return false;
  };
  std::vector<std::string> names;
  for (const PackageId installed : universe.installed()) {
    const auto versions = universe.versions_of(universe.name(installed));
    const auto any = [&](bool by_it) {
      return std::any_of(versions.begin(), versions.end(), [&](PackageId id) { return is_offered_by(id, by_it); });
    };
    if (any(true) && !any(false)) names.emplace_back(universe.name(installed));
  }
  return names;
}

void drop_repository(Root& root, const std::string& name) {
  settings::drop_repository(root.files(), name);
  forget_index(root, name);
  repo::forget_failures(root.files(), name);
  repo::TrustedRepository::forget(root.files(), name);
}

void set_enabled(Root& root, const std::string& name, bool enabled) {
  settings::set_enabled(root.files(), name, enabled);
}

OfferedRoot offered_root(Root& root, const Repository& repository) {
  constexpr const char* kFirst = "trust/1.root.json";
  Repository asked = checked(usable(repository));
  auto [plain_url, credentials] = settings::without_credentials(asked.url);
  asked.url = std::move(plain_url);
  if (credentials.any()) asked.access.credentials = std::move(credentials);
  const std::string url = asked.url + "/" + kFirst;
  const std::optional<std::string> text = fetched(root, asked, kFirst);
  if (!text && !fetched(root, asked, trust::kTimestampPath))
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
  facts.failures = repo::failures_of(root.files(), repository.name);
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

std::vector<RefreshResult> refresh(Root& root, const std::vector<std::string>& names, WhatsNew* whats_new) {
  std::vector<Repository> wanted;
  for (const std::string& name : names) wanted.push_back(usable(repository_named(root, name)));
  if (names.empty())
    for (const auto& one : root.repositories())
      if (one.enabled) wanted.push_back(one);
  if (wanted.empty()) return {};
  std::optional<Offered> before;
  if (whats_new != nullptr) before.emplace(root);
  auto results = repo::refresh(root.files(), root.network(), wanted, root.repositories(), os::now(), root.observer());
  for (const Repository& one : wanted) repo::note_failures(root.files(), root.network(), one, os::now());
  root.forget_repositories();  // what was loaded of their indexes
  const bool changed = std::any_of(results.begin(), results.end(), [](const auto& one) { return one.changed; });
  if (before) *whats_new = before->until_now(root, changed);
  return results;
}

std::vector<repo::MirrorMeasure> compare_mirrors(Root& root, const std::string& name) {
  return repo::compare_mirrors(root.files(), root.network(), usable(repository_named(root, name)), os::now(),
                               root.observer());
}

void use_mirrors(Root& root, const std::string& name, const std::vector<std::string>& used,
                 const std::vector<std::string>& spare) {
  HAMBREL_ASSERT(!used.empty(), "a repository has a place");
  settings::set_mirrors(root.files(), name, used, spare);
  root.forget_repositories();
}

std::optional<OldIndex> oldest_index(Root& root) {
  const std::int64_t most = static_cast<std::int64_t>(root.settings().max_age) * trust::kDay;
  std::optional<OldIndex> oldest;
  if (most == 0) return oldest;
  for (const CachedIndex& index : repositories(root)) {
    const bool is_used = index.repository.enabled && index.problem.empty() && index.version != 0;
    if (!is_used || index.fetched + most > os::now() || (oldest && oldest->fetched <= index.fetched)) continue;
    oldest = {index.repository.name, index.fetched};
  }
  return oldest;
}

std::size_t count_newer(Root& root) {
  const Universe& universe = root.universe();
  const auto installed = universe.installed();
  return static_cast<std::size_t>(
      std::count_if(installed.begin(), installed.end(), [&](PackageId id) { return universe.newer_offer(id); }));
}

}  // namespace hambrel::operations
