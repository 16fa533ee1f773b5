#include "operations/root.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/amounts.h"
#include "base/assert.h"
#include "base/text.h"
#include "operations/service_run.h"
#include "os/host.h"
#include "plan/plan.h"
#include "repo/download.h"
#include "txn/kept.h"
#include "txn/ledger_copy.h"
#include "txn/retention.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kMostUrlBytes = 16ULL << 30;
constexpr const char* kRebuild = "hambrel repair --rebuild";

std::string key_of(const Package& package) { return package.title() + " " + package.arch; }

/// A root without a state is a new one, unless a ledger was kept there.
void require_known(os::FileReader& root) {
  if (root.stat(txn::kLedgerCopy) && !root.list(txn::kLedgerCopy).empty())
    throw Error(ErrorCode::Untrusted, "the state of this root is missing, but its ledger is there",
                root.shown(kStateFile), fmt::format("`{}` recreates it; or restore it from a backup", kRebuild));
}

bool is_over_network(std::string_view text) { return text.starts_with("http://") || text.starts_with("https://"); }

bool is_url(std::string_view text) { return is_over_network(text) || text.starts_with("file://"); }

}  // namespace

Root::Root(RootOptions options, Observer& observer) : options_(std::move(options)), observer_(observer) {}

os::FileSystem& Root::files() {
  if (!files_) files_ = os::open_file_system(options_.path);
  return *files_;
}

const settings::Settings& Root::settings() {
  if (settings_) return *settings_;
  if (options_.settings_file.empty()) {
    settings_ = settings::load_settings(files(), "etc/hambrel/hambrel.toml", os::machine_architecture());
  } else {
    const auto host = os::open_file_system("/");
    const std::string path = os::host_path(options_.settings_file);
    if (!host->stat_followed(path))
      throw Error(ErrorCode::NotFound, "the settings file does not exist", options_.settings_file,
                  "check the path given to --config");
    settings_ = settings::load_settings(*host, path, os::machine_architecture());
  }
  const auto& known = settings_->architectures;
  const std::string& wanted = options_.architecture;
  if (!wanted.empty() && std::find(known.begin(), known.end(), wanted) == known.end())
    throw Error(ErrorCode::Usage,
                fmt::format("--arch {}: this root accepts packages for {}", printable(wanted), join(known, ", ")), {},
                "`more_archs` in hambrel.toml adds architectures");
  return *settings_;
}

const std::vector<settings::Repository>& Root::repositories() {
  if (!repositories_) repositories_ = settings::load_repositories(files());
  return *repositories_;
}

void Root::see_enabled(const std::string& repository) {
  repositories();
  for (settings::Repository& one : *repositories_)
    if (one.name == repository) one.enabled = true;
  catalog_.reset();
  universe_.reset();
}

void Root::see_following(const std::string& name, const std::string& channel) {
  seen_to_follow_[name] = channel;
  universe_.reset();
}

const repo::Catalog& Root::catalog() {
  if (!catalog_) catalog_ = repo::load_catalog(files(), repositories(), options_.trust_compiled);
  return *catalog_;
}

const state::State* Root::state() {
  if (state_is_lost_ || looking_) return looking_.get();
  if (!files().stat(kStateFile)) {
    require_known(files());
    return nullptr;
  }
  looking_ = std::make_unique<state::State>(files(), kStateFile, state::Access::Look);
  if (const auto journal = looking_->journal())
    observer_.note(
        fmt::format("transaction {} ({}) was interrupted; this is the state before it. `hambrel recover` finishes or "
                    "rolls it back.",
                    number(journal->id), journal->kind));
  return looking_.get();
}

std::string Root::clock_doubt() {
  const state::State* const now = state();
  return now == nullptr ? "" : txn::doubt_of_clock(*now, os::now());
}

repo::Network& Root::network() {
  if (!network_) network_ = std::make_unique<repo::Network>(settings().downloads, settings().fetch);
  return *network_;
}

std::unique_ptr<os::ReadableFile> Root::open_given(const Spec& spec) {
  if (is_url(spec.text)) {
    observer_.begin("fetching " + shown_url(spec.text), 0, Observer::Unit::Bytes);
    std::unique_ptr<os::ReadableFile> file;
    if (!changes() && is_over_network(spec.text)) file = network().open(spec.text);
    if (!file) file = network().whole_file(spec.text, kMostUrlBytes, observer_);
    observer_.end();
    return file;
  }
  if (!host_) host_ = os::open_file_system("/");
  const std::string path = os::host_path(spec.text);
  if (!host_->stat_followed(path))
    throw Error(ErrorCode::NotFound, "the package file does not exist", spec.text,
                "check the path; to install from a repository, leave out ./ and .hambrel");
  return os::open_each_time(host_, path);
}

void Root::add_files(const std::vector<Spec>& specs) {
  for (const Spec& spec : specs)
    if (spec.kind == Spec::Kind::File && !readers_.contains(shown_url(spec.text))) add_file(spec, open_given(spec));
}

void Root::add_file(const Spec& spec, std::unique_ptr<os::ReadableFile> file) {
  const std::string shown = shown_url(spec.text);
  // who only looks reads no more of what is behind a URL than its table of contents
  const bool is_partly_read = !changes() && is_over_network(spec.text);
  const Digest digest = is_partly_read ? Digest{} : os::digest_of(*file, shown);
  auto reader = std::make_unique<archive::PackageReader>(std::move(file), shown);
  Candidate candidate;
  candidate.package = reader->manifest();
  const auto& architectures = settings().architectures;
  if (!candidate.package.is_independent() &&
      std::find(architectures.begin(), architectures.end(), candidate.package.arch) == architectures.end())
    throw Error(ErrorCode::Refused,
                fmt::format("{} is built for {}; this root is {}", candidate.package.title(), candidate.package.arch,
                            join(architectures, " and ")),
                shown, fmt::format("use a file built for {}, or an independent one", join(architectures, ", ")));
  Offer offer;
  offer.local_path = shown;
  offer.size = reader->file_size();
  offer.digest = digest;
  offer.rank = 0;
  candidate.offers.push_back(offer);
  given_.push_back(std::move(candidate));
  readers_.emplace(shown, std::move(reader));
  universe_.reset();
}

View Root::view(const repo::InstalledFacts& facts) {
  View view;
  for (const repo::CachedIndex& index : catalog().indexes) {
    const settings::Repository& one = index.repository;
    if (index.problem.empty())  // what the catalogue may still hold of another place by that name is not seen
      view.repositories.push_back({one.name, one.enabled, one.rank, one.channels});
  }
  view.architectures = settings().architectures;
  view.follows = settings().follow;  // what is written there counts more than what a command said
  view.follows.insert(facts.follows.begin(), facts.follows.end());
  for (const auto& [name, channel] : seen_to_follow_) {
    if (channel.empty())
      view.follows.erase(name);
    else
      view.follows.insert_or_assign(name, channel);
  }
  view.protects = settings().protects;
  view.refused_licenses = settings().refused_licenses;
  view.now = os::now();
  view.installed_is_sound = facts.sound;
  return view;
}

std::vector<Candidate> Root::installed_candidates() {
  std::vector<Candidate> all;
  if (const state::State* state = this->state())
    for (state::StatePackage& one : state->installed()) {
      Candidate candidate;
      candidate.package = std::move(one.package);
      candidate.installed = Installed{one.row, one.reason, one.origin, one.time, one.digest, one.hold};
      all.push_back(std::move(candidate));
    }
  return all;
}

std::map<std::string, std::string, std::less<>> Root::follows_in_state() {
  const state::State* const now = state();
  if (now == nullptr) return {};
  const auto follows = now->follows();
  return {follows.begin(), follows.end()};
}

std::shared_ptr<const Layer> Root::overlay(repo::InstalledFacts& facts) {
  const Layer& base = *catalog().base;
  const std::string identity = state::identity_of(files(), kStateFile);
  if (given_.empty() && options_.trust_compiled && !changes())
    if (auto stored = repo::open_installed(files(), base, identity, settings().architectures, facts)) return stored;
  facts.follows = follows_in_state();
  std::vector<Candidate> all = installed_candidates();
  all.insert(all.end(), given_.begin(), given_.end());
  return repo::layer_of(compile_overlay(base, all, ""));
}

const Universe& Root::universe() {
  if (universe_) return *universe_;
  repo::InstalledFacts facts;
  const auto installed = overlay(facts);
  View seen = view(facts);
  universe_ = std::make_unique<Universe>(catalog().base, installed, std::move(seen));
  return *universe_;
}

void Root::forget_repositories() {
  repositories_.reset();
  catalog_.reset();
  universe_.reset();
}

void Root::renew() {
  universe_.reset();
  given_.clear();
  kept_.clear();
  readers_.clear();
}

std::string Root::identity() {
  if (!options_.trust_compiled || changes() || !catalog().compiled) return "";
  return state::identity_of(files(), kStateFile);
}

std::unique_ptr<Universe> Root::renew_overlay() {
  catalog_.reset();
  const auto base = catalog().base;
  const std::string now = state::identity_of(files(), kStateFile);
  if (!catalog_->compiled || now.empty()) return nullptr;
  repo::InstalledFacts facts;
  const auto& architectures = settings().architectures;
  if (const auto stored = repo::open_installed(files(), *base, now, architectures, facts))
    return std::make_unique<Universe>(base, stored, view(facts));
  facts.follows = follows_in_state();
  const auto candidates = installed_candidates();
  auto seen = std::make_unique<Universe>(base, repo::layer_of(compile_overlay(*base, candidates, "")), view(facts));
  facts.sound = plan::problems_of(*seen, seen->installed()).empty();
  files().replace_cache(repo::kInstalledFile,
                        compile_overlay(*base, candidates, repo::installed_key(*base, now, architectures, facts)),
                        0644);
  return seen;
}

PackageId Root::file_package(const std::string& given) {
  const std::string spec = shown_url(given);
  const Universe& known = universe();
  for (const PackageId id : known.versions_of(readers_.at(spec)->manifest().name))
    for (const Offer& offer : known[id].offers)
      if (offer.local_path == spec) return id;
  throw Error(ErrorCode::Internal, "a package file was lost", spec);
}

archive::PackageReader* Root::file_reader(PackageId id) {
  if (readers_.empty()) return nullptr;
  for (const Offer& offer : universe()[id].offers)
    if (const auto found = readers_.find(offer.local_path); !offer.local_path.empty() && found != readers_.end())
      return found->second.get();
  return nullptr;
}

bool Root::is_to_be_fetched(PackageId id) {
  const auto& offers = universe()[id].offers;
  return !changes() && std::any_of(offers.begin(), offers.end(),
                                   [](const Offer& offer) { return is_over_network(offer.local_path); });
}

void Root::add_kept() {
  const state::State* const now = this->state();
  if (now == nullptr) return;
  std::set<std::string> installed;
  for (const state::StatePackage& one : now->installed()) installed.insert(key_of(one.package));
  for (const state::Replaced& one : now->replaced()) {
    const Package& package = one.package.package;
    if (installed.contains(key_of(package)) || kept_.contains(key_of(package))) continue;
    const std::string attic = os::join_path(txn::kHome, txn::attic_of(*now, one.left));
    const bool in_attic = files().stat(attic).has_value();
    if (!in_attic && !files().stat(repo::cache_path(package))) continue;
    add_kept(one.package, in_attic ? kInAttic : kInCache);
  }
  universe_.reset();  // numbers of packages change their meaning
}

void Root::add_shelved() {
  if (this->state() == nullptr) return;
  for (const state::StatePackage& one : this->state()->shelved()) add_kept(one, kInAttic);
  universe_.reset();
}

void Root::add_kept(const state::StatePackage& package, std::string_view where) {
  HAMBREL_ASSERT(package.row > 0, "what is kept is known to the state");
  Offer offer;
  offer.local_path = where;
  offer.rank = 0;
  offer.digest = package.digest;
  Candidate candidate;
  candidate.package = package.package;
  candidate.offers.push_back(std::move(offer));
  given_.push_back(std::move(candidate));
  kept_.emplace(key_of(package.package), package);
}

const state::StatePackage* Root::kept(PackageId id) {
  if (kept_.empty()) return nullptr;
  const auto& offers = universe()[id].offers;
  if (offers.empty() || !offers.front().is_kept()) return nullptr;
  const auto found = kept_.find(key_of(universe().package(id)));
  return found == kept_.end() ? nullptr : &found->second;
}

std::vector<std::string> Root::unusable_repositories() {
  std::vector<std::string> all;
  for (const repo::CachedIndex& index : catalog().indexes)
    if ((index.repository.enabled || !index.repository.problem.empty()) && !index.problem.empty())
      all.push_back(fmt::format("{} is not used: {}. `hambrel refresh` fetches its index.", index.repository.name,
                                index.problem));
  return all;
}

const state::State& require_state(Root& root) {
  if (const state::State* const state = root.state()) return *state;
  throw Error(ErrorCode::NotFound, "nothing has been changed in this root yet", root.options().path,
              "`hambrel ledger` lists what was done");
}

ChangingRoot::ChangingRoot(RootOptions given, Observer& observer, unsigned wait_seconds, State how)
    : Root(std::move(given), observer) {
  files().make_directories(kStateDirectory);
  lock_ = os::take_lock(files(), kLockFile, static_cast<int>(wait_seconds),
                        fmt::format("`{}` (process {}, {}, since {})", options().command, os::process_id(),
                                    os::user_name(), time_text(os::now())));
  state_is_lost_ = how == State::Lost;
  if (state_is_lost_) return;
  if (!files().stat(kStateFile)) require_known(files());
  state_ = std::make_unique<state::State>(files(), kStateFile, state::Access::Change);
  clock_doubt_ = txn::doubt_of_clock(*state_, os::now());
  recover();
  HAMBREL_ASSERT(!state_->journal(), "nothing is begun while something is open");
  finish_services(*this);
}

void ChangingRoot::recover() {
  try {
    recovered_ = txn::Engine(environment()).recover();
  } catch (...) {
    const Error problem = current_error();
    const bool is_state = problem.code() == ErrorCode::Untrusted && problem.where() == files().shown(kStateFile);
    throw Error(
        ErrorCode::Unrecovered, fmt::format("an interrupted transaction could not be recovered: {}", problem.problem()),
        problem.where(),
        is_state ? problem.hint() : "fix the cause, then run `hambrel recover`; nothing else is done before that");
  }
}

txn::Environment ChangingRoot::environment(const std::function<bool()>& stop_asked) {
  HAMBREL_ASSERT(lock_ != nullptr && state_ != nullptr, "whoever changes a root holds it");
  txn::Environment environment{files(), *state_, observer(), os::is_superuser(), os::now, options().after_step};
  environment.stop_asked = stop_asked;
  environment.workers = os::processors();
  return environment;
}

}  // namespace hambrel::operations
