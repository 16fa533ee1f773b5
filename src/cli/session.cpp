#include "cli/session.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <map>

#include "base/text.h"
#include "cli/command_text.h"
#include "os/host.h"
#include "plan/plan.h"
#include "repo/download.h"
#include "repo/transfer.h"
#include "txn/kept.h"
#include "txn/ledger_copy.h"
#include "txn/retention.h"

namespace hambrel::cli {

namespace {

constexpr std::uint64_t kMostUrlBytes = 16ULL << 30;

/// Only in builds with fault points, for tests and the demo: HAMBREL_TEST_DIE_AT=moved:3 ends the process, as a power
/// cut would, after the third such step; HAMBREL_TEST_STOP_AT presses Ctrl-C there.
std::function<void(const std::string&)> fault_point() {
#ifndef HAMBREL_FAULT_POINTS
  return [](const std::string&) {};
#else
  const char* const stop = std::getenv("HAMBREL_TEST_STOP_AT");
  const char* const given = stop != nullptr ? stop : std::getenv("HAMBREL_TEST_DIE_AT");
  if (given == nullptr) return [](const std::string&) {};
  const auto happen = stop != nullptr ? os::test_only_interrupt : os::test_only_die;
  const auto parts = split(given, ':');
  const std::string step(parts[0]);
  auto left = std::make_shared<std::uint64_t>(parts.size() > 1 ? parse_number(parts[1]).value_or(1) : 1);
  return [step, left, happen](const std::string& now) {
    if (now == step && --*left == 0) happen();
  };
#endif
}

using Clock = std::chrono::steady_clock;

/// For whoever asks with --verbose: where the time of a transaction went.
class Stopwatch {
 public:
  explicit Stopwatch(Observer& observer) : observer_(observer) {}
  void step(const std::string& name) {
    const auto now = Clock::now();
    if (name == "moved") {
      last_move_ = now;
      ++moves_;
      return;
    }
    at_[name] = now;
    if (name != "done" || !at_.contains("synced")) return;  // giving up attics has no switch
    const auto since = [](Clock::time_point from, Clock::time_point to) {
      return std::chrono::duration<double, std::milli>(to - from).count();
    };
    const bool staged = at_.contains("staged"), arrived = at_.contains("arrived");
    const auto synced = at_.at("synced"), journaled = at_.at("journaled"), switched = at_.at("switched");
    const auto last = moves_ > 0 ? last_move_ : journaled;
    observer_.note(fmt::format(
        "{}{}on the disk in {:.1f} ms, journal in {:.1f} ms, {} moves in {:.1f} ms, those on the disk in {:.1f} ms, "
        "recorded in {:.1f} ms",
        staged ? fmt::format("staged in {:.1f} ms, ", since(start_, at_.at("staged"))) : "",
        arrived ? fmt::format("the rest fetched in {:.1f} ms, ",
                              since(at_.at(staged ? "staged" : "arrived"), at_.at("arrived")))
                : "",
        since(arrived  ? at_.at("arrived")
              : staged ? at_.at("staged")
                       : start_,
              synced),
        since(synced, journaled), moves_, since(journaled, last), since(last, switched),
        since(switched, at_.at("committed"))));
  }

 private:
  Observer& observer_;
  Clock::time_point start_ = Clock::now(), last_move_;
  std::map<std::string, Clock::time_point> at_;
  std::size_t moves_ = 0;
};

}  // namespace

Session::Session(const Arguments& arguments, std::string command_line, Screen& screen)
    : screen_(screen),
      json_(arguments.has("json")),
      quiet_(arguments.has("quiet")),
      verbose_(arguments.has("verbose")),
      progress_(screen, quiet_),
      command_line_(std::move(command_line)),
      root_path_(arguments.value("root").value_or("/")),
      config_(arguments.value("config").value_or("")),
      arch_(arguments.value("arch").value_or("")) {
  screen.acts_on(root_path_);
}

std::string Session::copyable(const std::string& command) const { return command_with_root(command, root_path_); }

os::FileSystem& Session::root() {
  if (!root_) root_ = os::open_file_system(root_path_);
  return *root_;
}

const repo::Settings& Session::settings() {
  if (settings_) return *settings_;
  if (config_.empty()) {
    settings_ = repo::load_settings(root(), "etc/hambrel/hambrel.toml", os::machine_architecture());
  } else {
    const auto host = os::open_file_system("/");
    const std::string path = os::host_path(config_);
    if (!host->stat_followed(path))
      throw Error(ErrorCode::NotFound, "there is no such settings file", config_, "check the path given to --config");
    settings_ = repo::load_settings(*host, path, os::machine_architecture());
  }
  const auto& known = settings_->architectures;
  if (!arch_.empty() && std::find(known.begin(), known.end(), arch_) == known.end())
    throw Error(ErrorCode::Usage,
                fmt::format("--arch {}: this root takes packages for {}", printable(arch_), join(known, ", ")), {},
                "`more_archs` in hambrel.toml adds architectures");
  return *settings_;
}

const std::vector<repo::Repository>& Session::repositories() {
  if (!repositories_) repositories_ = repo::load_repositories(root());
  return *repositories_;
}

void Session::see_enabled(const std::string& repository) {
  repositories();
  for (repo::Repository& one : *repositories_)
    if (one.name == repository) one.enabled = true;
  catalog_.reset();
  universe_.reset();
}

const repo::Catalog& Session::catalog() {
  if (!catalog_) catalog_ = repo::load_catalog(root(), repositories(), may_use_compiled_);
  return *catalog_;
}

namespace {

/// A root without a state is a new one, unless a ledger was kept there.
void require_known(os::FileReader& root, const std::string& rebuild) {
  if (root.stat(txn::kLedgerCopy) && !root.list(txn::kLedgerCopy).empty())
    throw Error(ErrorCode::Untrusted, "the state of this root is gone, though its ledger is not",
                root.shown(kStateFile), fmt::format("`{}` makes it anew; or bring it back from a backup", rebuild));
}

}  // namespace

state::State* Session::looking() {
  if (changing_) return changing_.get();
  if (state_is_lost_) return nullptr;
  if (!looking_) {
    if (!root().stat(kStateFile)) {
      require_known(root(), copyable("hambrel repair --rebuild"));
      return nullptr;
    }
    looking_ = std::make_unique<state::State>(root(), kStateFile, state::Access::Look);
    if (const auto journal = looking_->journal())
      progress_.note(
          fmt::format("transaction {} ({}) stands interrupted; this is the state before it. `{}` puts it right.",
                      number(journal->id), journal->kind, copyable("hambrel recover")));
  }
  return looking_.get();
}

void Session::lock(const Arguments& arguments) {
  const std::string wait_text = arguments.value("wait").value_or("0");
  const auto wait = parse_number(wait_text);
  if (!wait || *wait > 86400)
    throw Error(ErrorCode::Usage, fmt::format("--wait {}: a number of seconds was expected", printable(wait_text)), {},
                "for example --wait 60");
  root().make_directories(kStateDirectory);
  lock_ = os::take_lock(root(), kLockFile, static_cast<int>(*wait),
                        fmt::format("`{}` (process {}, {}, since {})", command_line_, os::process_id(), os::user_name(),
                                    time_text(os::now())));
}

void Session::without_state(const Arguments& arguments) {
  lock(arguments);
  state_is_lost_ = true;
}

state::State& Session::changing(const Arguments& arguments) {
  if (changing_) return *changing_;
  lock(arguments);
  if (!root().stat(kStateFile)) require_known(root(), copyable("hambrel repair --rebuild"));
  changing_ = std::make_unique<state::State>(root(), kStateFile, state::Access::Change);
  clock_doubt_ = txn::doubt_of_clock(*changing_, os::now());
  recover_first();
  return *changing_;
}

void Session::recover_first() {
  txn::Engine engine(environment());
  std::optional<txn::Engine::Recovered> recovered;
  try {
    recovered = engine.recover();
  } catch (...) {
    const Error problem = current_error();
    throw Error(ErrorCode::Unrecovered,
                fmt::format("an interrupted transaction could not be put right: {}", problem.problem()),
                problem.where(), "mend the cause, then run `hambrel recover`; nothing else is done before that");
  }
  recovered_ = recovered.has_value();
  if (recovered)
    screen_.note(
        fmt::format("{}: transaction {} ({}) was interrupted; {} of its {} moves had been done and were taken back. "
                    "The system is as it was before.",
                    screen_.paint_error(Style::Warn, "recovered"), number(recovered->id), recovered->kind,
                    recovered->moves_taken_back, recovered->moves));
}

txn::Environment Session::environment(const os::InterruptGuard* guard) {
  txn::Environment environment{root(), *changing_, progress_, os::is_superuser(), os::now, fault_point()};
  environment.stop_asked = [guard] { return guard != nullptr && guard->asked(); };
  environment.workers = os::processors();
  if (!verbose_) return environment;
  const auto stopwatch = std::make_shared<Stopwatch>(progress_);
  environment.after_step = [stopwatch, inner = environment.after_step](const std::string& step) {
    stopwatch->step(step);
    inner(step);
  };
  return environment;
}

repo::Pace Session::pace() {
  const repo::FetchLimits& limits = settings().fetch;
  return {limits.least_rate, limits.window_seconds, 0};
}

void Session::add_files(const std::vector<Spec>& specs) {
  std::shared_ptr<os::FileReader> host;
  for (const Spec& spec : specs) {
    if (spec.kind != Spec::Kind::File || readers_.contains(shown_url(spec.text))) continue;
    std::unique_ptr<os::ReadableFile> file;
    if (spec.text.starts_with("http://") || spec.text.starts_with("https://") || spec.text.starts_with("file://")) {
      progress_.begin("fetching " + shown_url(spec.text), 0, Observer::Unit::Bytes);
      file = repo::fetch_file(spec.text, kMostUrlBytes, pace(), progress_);
      progress_.end();
    } else {
      if (!host) host = os::open_file_system("/");
      const std::string path = os::host_path(spec.text);
      if (!host->stat_followed(path))
        throw Error(ErrorCode::NotFound, "there is no such package file", spec.text,
                    "check the path; a package of a repository is named without ./ and .hambrel");
      file = os::open_each_time(host, path);
    }
    const std::string shown = shown_url(spec.text);
    const Digest digest = os::digest_of(*file, shown);
    auto reader = std::make_unique<archive::PackageReader>(std::move(file), shown);
    Candidate candidate;
    candidate.package = reader->manifest();
    const auto& architectures = settings().architectures;
    if (candidate.package.arch != "any" &&
        std::find(architectures.begin(), architectures.end(), candidate.package.arch) == architectures.end())
      throw Error(ErrorCode::Refused,
                  fmt::format("{} is built for {}; this root is {}", candidate.package.title(), candidate.package.arch,
                              join(architectures, " and ")),
                  shown, fmt::format("use a file built for {} or any", join(architectures, ", ")));
    Offer offer;
    offer.local_path = shown;
    offer.size = reader->file_size();
    offer.digest = digest;
    offer.rank = 0;
    candidate.offers.push_back(offer);
    files_.push_back(std::move(candidate));
    readers_.emplace(shown, std::move(reader));
  }
}

View Session::view() {
  View view;
  for (const repo::CachedIndex& index : catalog().indexes) {
    const repo::Repository& one = index.repository;
    if (index.problem.empty())  // what the catalogue may still hold of another place by that name is not seen
      view.repositories.push_back({one.name, one.enabled, one.rank, one.channels});
  }
  view.architectures = settings().architectures;
  view.follows = settings().follow;
  view.now = os::now();
  return view;
}

std::vector<Candidate> Session::installed_candidates() {
  std::vector<Candidate> all;
  if (const state::State* state = present())
    for (state::StatePackage& one : state->installed()) {
      Candidate candidate;
      candidate.package = std::move(one.package);
      candidate.installed = Installed{one.row, one.reason, one.origin, one.time, one.digest, one.hold};
      all.push_back(std::move(candidate));
    }
  return all;
}

std::shared_ptr<const Layer> Session::overlay(bool& sound) {
  const Layer& base = *catalog().base;
  const std::string identity = state::identity_of(root(), kStateFile);
  if (files_.empty() && may_use_compiled_ && !changing_)
    if (auto stored = repo::open_installed(root(), base, identity, settings().architectures, sound)) return stored;
  std::vector<Candidate> all = installed_candidates();
  all.insert(all.end(), files_.begin(), files_.end());
  return repo::layer_of(compile_overlay(base, all, ""));
}

const Universe& Session::universe() {
  if (universe_) return *universe_;
  bool sound = false;
  const auto installed = overlay(sound);
  View seen = view();
  seen.installed_is_sound = sound;
  universe_ = std::make_unique<Universe>(catalog().base, installed, std::move(seen));
  return *universe_;
}

std::optional<Listing> Session::listing() {
  if (!may_use_compiled_ || changing_ || !catalog().compiled) return std::nullopt;
  const std::string identity = state::identity_of(root(), kStateFile);
  if (identity.empty()) return std::nullopt;
  const View through = view();
  return Listing::open(root(), listing_key(*catalog().base, identity, through), through.now);
}

void Session::remember_installed() {
  try {
    catalog_.reset();
    const auto base = catalog().base;
    const std::string identity = state::identity_of(root(), kStateFile);
    if (!catalog_->compiled || identity.empty()) return;
    bool sound = false;
    const auto& architectures = settings().architectures;
    const View through = view();
    const std::string key = listing_key(*base, identity, through);
    if (const auto stored = repo::open_installed(root(), *base, identity, architectures, sound)) {
      if (!Listing::open(root(), key, through.now)) keep_listing(root(), key, Universe(base, stored, through));
      return;
    }
    const auto candidates = installed_candidates();
    const Universe seen(base, repo::layer_of(compile_overlay(*base, candidates, "")), through);
    sound = plan::problems_of(seen, seen.installed()).empty();
    root().replace_cache(repo::kInstalledFile,
                         compile_overlay(*base, candidates, repo::installed_key(*base, identity, architectures, sound)),
                         0644);
    keep_listing(root(), key, seen);
  } catch (...) {
    const Error problem = current_error();
    progress_.note(fmt::format("the list of installed packages could not be cached, so looking takes longer: {}: {}",
                               problem.where(), problem.problem()));
  }
}

PackageId Session::file_package(const std::string& given) {
  const std::string spec = shown_url(given);
  const Universe& known = universe();
  for (const PackageId id : known.versions_of(readers_.at(spec)->manifest().name))
    for (const Offer& offer : known[id].offers)
      if (offer.local_path == spec) return id;
  throw Error(ErrorCode::Internal, "a package file was lost", spec);
}

archive::PackageReader* Session::file_reader(PackageId id) {
  if (readers_.empty()) return nullptr;
  for (const Offer& offer : universe()[id].offers)
    if (const auto found = readers_.find(offer.local_path); !offer.local_path.empty() && found != readers_.end())
      return found->second.get();
  return nullptr;
}

namespace {

std::string key_of(const Package& package) { return package.title() + " " + package.arch; }

}  // namespace

void Session::add_kept() {
  const state::State* const state = present();
  if (state == nullptr) return;
  std::set<std::string> installed;
  for (const state::StatePackage& one : state->installed()) installed.insert(key_of(one.package));
  for (const state::Replaced& one : state->replaced()) {
    const Package& package = one.package.package;
    if (installed.contains(key_of(package)) || kept_.contains(key_of(package))) continue;
    const std::string attic = os::join_path(txn::kHome, txn::attic_of(*state, one.left));
    const bool in_attic = root().stat(attic).has_value();
    if (!in_attic && !root().stat(repo::cache_path(package))) continue;
    add_kept(one.package, in_attic ? kInAttic : kInCache);
  }
  universe_.reset();  // numbers of packages change their meaning
}

void Session::add_shelved() {
  if (present() == nullptr) return;
  for (const state::StatePackage& one : present()->shelved()) add_kept(one, kInAttic);
}

void Session::add_kept(const state::StatePackage& package, std::string_view where) {
  Offer offer;
  offer.local_path = where;
  offer.rank = 0;
  offer.digest = package.digest;
  Candidate candidate;
  candidate.package = package.package;
  candidate.offers.push_back(std::move(offer));
  files_.push_back(std::move(candidate));
  kept_.emplace(key_of(package.package), package);
}

const state::StatePackage* Session::kept(PackageId id) {
  if (kept_.empty()) return nullptr;
  const auto& offers = universe()[id].offers;
  if (offers.empty() || !offers.front().is_kept()) return nullptr;
  const auto found = kept_.find(key_of(universe().package(id)));
  return found == kept_.end() ? nullptr : &found->second;
}

void Session::tell_of_unusable_repositories() {
  for (const repo::CachedIndex& index : catalog().indexes)
    if ((index.repository.enabled || !index.repository.problem.empty()) && !index.problem.empty())
      progress_.note(fmt::format("nothing of {} is used: {}. `hambrel refresh` fetches its index.",
                                 index.repository.name, index.problem));
}

}  // namespace hambrel::cli
