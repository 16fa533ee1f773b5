// One run of the program: options, the root, and what is loaded of it when a command asks.
#pragma once

#include <memory>
#include <optional>
#include <set>

#include "cli/command.h"
#include "cli/listing.h"
#include "cli/progress.h"
#include "model/spec.h"
#include "model/universe.h"
#include "os/interrupt.h"
#include "os/lock.h"
#include "repo/refresh.h"
#include "repo/transfer.h"
#include "solve/request.h"
#include "state/state.h"
#include "txn/engine.h"

namespace hambrel::cli {

inline constexpr const char* kStateDirectory = "var/lib/hambrel";
inline constexpr const char* kStateFile = "var/lib/hambrel/state.sqlite";
inline constexpr const char* kLockFile = "var/lib/hambrel/private/lock";

class Session {
 public:
  Session(const Arguments& arguments, std::string command_line, Screen& screen);

  const Screen& screen() const { return screen_; }
  bool json() const { return json_; }
  bool quiet() const { return quiet_; }
  Progress& progress() { return progress_; }
  const std::string& command_line() const { return command_line_; }
  /// A command that may be copied: "hambrel undo 7" with this run's --root put in, so that it acts on the same system.
  std::string copyable(const std::string& command) const;

  /// The architecture that specs mean in this run; empty: the root's own first.
  const std::string& arch() const { return arch_; }

  os::FileSystem& root();
  const std::string& root_path() const { return root_path_; }
  const repo::Settings& settings();
  const std::vector<repo::Repository>& repositories();
  const repo::Catalog& catalog();

  /// The state for looking: nothing if this root has none yet. Says on standard error if a transaction stands
  /// interrupted.
  state::State* looking();
  /// Takes the lock, opens the state for changing and recovers an interrupted transaction first.
  state::State& changing(const Arguments& arguments);
  /// Takes the lock; the state is taken to be lost: this run knows of nothing that is installed.
  void without_state(const Arguments& arguments);
  /// The state that a plan is made from: the changing one, or with --dry-run the looking one.
  state::State* present() { return changing_ ? changing_.get() : looking(); }
  /// `guard`: who notices that the administrator wants to stop.
  txn::Environment environment(const os::InterruptGuard* guard = nullptr);

  /// Installed packages, what the repositories offer, and package files given as specs.
  const Universe& universe();
  /// Reads the package files (or URLs) that specs name, so that the universe holds them. Before the first universe().
  void add_files(const std::vector<Spec>& specs);
  PackageId file_package(const std::string& spec);
  /// How slow the transfer of a package may be.
  repo::Pace pace();
  /// The open package file that a spec named; nullptr if none did.
  archive::PackageReader* file_reader(PackageId id);

  /// Lets the universe hold versions, too, that were installed here before and can still be had. Universes
  /// that were asked for before are of no use any more.
  void add_kept();
  /// The same for what is shelved.
  void add_shelved();
  /// Such a version, if the attic or the cache is where a package would come from.
  const state::StatePackage* kept(PackageId id);

  /// Did changing() have to put an interrupted transaction right?
  bool recovered() const { return recovered_; }
  bool changes() const { return changing_ != nullptr; }
  /// Why the clock could not be believed when changing() opened the state; empty: it could.
  const std::string& clock_doubt() const { return clock_doubt_; }
  void remember_sizes(const std::vector<state::Attic>& attics) { changing_->remember_sizes(attics); }
  /// What `list` would say of all that is installed, if an earlier run has kept it.
  std::optional<Listing> listing();
  /// After a change or a refresh: the compiled overlay of what is installed, and the listing, for runs to come. Only
  /// caches: that they could not be written is told, and nothing else comes of it.
  void remember_installed();
  /// This run sees everything as if a repository were enabled. Numbers of packages change their meaning.
  void see_enabled(const std::string& repository);
  /// Look at everything through parsed indexes instead of the stored, compiled ones, which turned out to be damaged.
  void distrust_compiled() { may_use_compiled_ = false; }

  /// One sentence for each repository that can't be used at all, on standard error.
  void tell_of_unusable_repositories();

 private:
  void lock(const Arguments& arguments);
  void recover_first();
  void add_kept(const state::StatePackage& package, std::string_view where);
  View view();
  std::vector<Candidate> installed_candidates();
  std::shared_ptr<const Layer> overlay(bool& sound);

  Screen& screen_;
  bool json_, quiet_, verbose_;
  Progress progress_;
  std::string command_line_, root_path_, config_, arch_, clock_doubt_;
  std::unique_ptr<os::FileSystem> root_;
  std::optional<repo::Settings> settings_;
  std::optional<std::vector<repo::Repository>> repositories_;
  std::optional<repo::Catalog> catalog_;
  bool may_use_compiled_ = true, recovered_ = false, state_is_lost_ = false;
  std::unique_ptr<os::Lock> lock_;
  std::unique_ptr<state::State> looking_, changing_;
  std::unique_ptr<Universe> universe_;
  std::vector<Candidate> files_;
  std::map<std::string, state::StatePackage> kept_;                         // by name, version and architecture
  std::map<std::string, std::unique_ptr<archive::PackageReader>> readers_;  // by spec
};

/// The packages that a spec stands for among the candidates, best first. Throws Error{Refused} with suggestions when
/// there is none.
std::vector<PackageId> select(Session& session, const Spec& spec);
/// Names of installed packages that a spec stands for. Throws Error{Refused} when there is none.
solve::Names select_installed(Session& session, const Spec& spec);
std::vector<Spec> parse_specs(const std::vector<std::string>& words);

}  // namespace hambrel::cli
