// One system, as the use cases see it: its settings, repositories, catalogue, state, and the universe of packages made
// of these, each loaded when it is first asked for.
//
// Root looks. ChangingRoot has the lock, the state opened for changing, and has put right what a transaction that was
// interrupted had left; who has only a Root can't change what is installed. Neither prints or asks: what is worth
// telling goes to the Observer, what can't be done is an Error whose hint names commands plainly (`hambrel recover`).
// Numbers of packages (PackageId) stand for as long as the universe they came from: add_kept(), add_shelved(),
// add_files() and see_enabled() make another one.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "archive/package_reader.h"
#include "base/observer.h"
#include "model/spec.h"
#include "model/universe.h"
#include "os/lock.h"
#include "repo/refresh.h"
#include "repo/transfer.h"
#include "state/state.h"
#include "txn/engine.h"

namespace hambrel::operations {

inline constexpr const char* kStateDirectory = "var/lib/hambrel";
inline constexpr const char* kStateFile = "var/lib/hambrel/state.sqlite";
inline constexpr const char* kLockFile = "var/lib/hambrel/private/lock";

using state::StateMoved;

struct RootOptions {
  std::string path = "/";       // an existing directory of the host
  std::string settings_file{};  // of the host; empty: etc/hambrel/hambrel.toml of the root
  std::string architecture{};   // that specs mean; empty: the root's own first
  std::string command{};        // how the ledger, and whoever waits for the lock, is told of this run
  bool trust_compiled = true;   // false: indexes are parsed, as the stored, compiled ones turned out to be damaged
  std::function<void(txn::EngineStep)> after_step = [](txn::EngineStep) {};
};

class Root {
 public:
  Root(RootOptions options, Observer& observer);
  virtual ~Root() = default;
  Root(const Root&) = delete;
  Root& operator=(const Root&) = delete;

  const RootOptions& options() const { return options_; }
  Observer& observer() const { return observer_; }
  os::FileSystem& files();
  const settings::Settings& settings();
  const std::vector<settings::Repository>& repositories();
  const repo::Catalog& catalog();
  /// Nothing if this root has none yet. Tells if a transaction stands interrupted.
  virtual const state::State* state();
  virtual bool changes() const { return false; }
  /// Was nothing changed in this root yet?
  bool is_new() { return state() == nullptr; }
  /// Why the clock can't be believed; empty: it can.
  virtual std::string clock_doubt();

  /// Installed packages, what the repositories offer, and package files given as specs.
  const Universe& universe();
  /// What the universe is seen through as far as files say it: repositories, channels, architectures.
  View view() { return view({}); }

  /// Reads the package files (or URLs) that specs name, so that the universe holds them.
  void add_files(const std::vector<Spec>& specs);
  PackageId file_package(const std::string& spec);
  /// Package files that this program has just made for this system: nobody else has to vouch for them.
  void take_as_made_here(const std::vector<std::string>& specs) { made_here_.insert(specs.begin(), specs.end()); }
  bool is_made_here(const std::string& spec) const { return made_here_.contains(spec); }
  /// The open package file that a spec named; nullptr if none did.
  archive::PackageReader* file_reader(PackageId id);
  /// Was it given as the URL of a server, of which only a change fetches the whole?
  bool is_to_be_fetched(PackageId id);
  /// Versions that were installed here before and can still be had, from the attic or the cache.
  void add_kept();
  /// The same for what is shelved.
  void add_shelved();
  /// Such a version, if the attic or the cache is where a package would come from.
  const state::StatePackage* kept(PackageId id);
  /// From now on everything is seen as if a repository were enabled.
  void see_enabled(const std::string& repository);

  /// From now on everything is seen as if a package followed this channel; empty: those of its repository.
  void see_following(const std::string& name, const std::string& channel);

  /// The way to servers, with what this run has learned of them.
  repo::Network& network();
  /// One sentence for each repository that can't be used at all.
  std::vector<std::string> unusable_repositories();

  /// Forgets what was read of repositories and their indexes, after these were changed.
  void forget_repositories();
  /// Forgets what was loaded of packages: after a change, what comes next is proposed from what is there then.
  void renew();

  /// What tells one state of this root from another; empty: there is none, or nothing compiled may be used.
  std::string identity();
  /// After a change or a refresh: the compiled overlay of what is installed, for runs to come. Returns the universe
  /// that they will see, or nothing where none can be kept. Only a cache; throws what writing it throws.
  std::unique_ptr<Universe> renew_overlay();

 protected:
  bool state_is_lost_ = false;

 private:
  void add_kept(const state::StatePackage& package, std::string_view where);
  void add_file(const Spec& spec, std::unique_ptr<os::ReadableFile> file);
  std::unique_ptr<os::ReadableFile> open_given(const Spec& spec);
  std::vector<Candidate> installed_candidates();
  std::shared_ptr<const Layer> overlay(repo::InstalledFacts& facts);
  std::map<std::string, std::string, std::less<>> follows_in_state();
  View view(const repo::InstalledFacts& facts);

  RootOptions options_;
  Observer& observer_;
  std::unique_ptr<os::FileSystem> files_;
  std::shared_ptr<os::FileReader> host_;
  std::optional<settings::Settings> settings_;
  std::optional<std::vector<settings::Repository>> repositories_;
  std::unique_ptr<repo::Network> network_;
  std::optional<repo::Catalog> catalog_;
  std::unique_ptr<state::State> looking_;
  std::unique_ptr<Universe> universe_;
  std::map<std::string, std::string> seen_to_follow_;                       // package name -> channel
  std::set<std::string> made_here_;                                         // specs of package files
  std::vector<Candidate> given_;                                            // files and kept versions
  std::map<std::string, state::StatePackage> kept_;                         // by name, version and architecture
  std::map<std::string, std::unique_ptr<archive::PackageReader>> readers_;  // by spec
};

class ChangingRoot final : public Root {
 public:
  enum class State {
    Recovered,  // opened, and what was interrupted is put right
    Lost        // not looked at: it is to be made anew
  };
  /// Takes the lock, for which it waits so many seconds. Throws Error{Locked}, Error{Unrecovered}.
  ChangingRoot(RootOptions options, Observer& observer, unsigned wait_seconds, State state = State::Recovered);

  const state::State* state() override { return state_.get(); }
  state::State& state_to_change() { return *state_; }
  bool changes() const override { return state_ != nullptr; }
  std::string clock_doubt() override { return clock_doubt_; }
  /// What had to be put right when this was opened.
  const std::optional<txn::Engine::Recovered>& recovered() const { return recovered_; }
  txn::Environment environment(const std::function<bool()>& stop_asked = [] { return false; });

 private:
  void recover();

  std::unique_ptr<os::Lock> lock_;
  std::unique_ptr<state::State> state_;
  std::optional<txn::Engine::Recovered> recovered_;
  std::string clock_doubt_;
};

/// The state of a root that must have one; Error{NotFound} where nothing was changed yet.
const state::State& require_state(Root& root);

}  // namespace hambrel::operations
