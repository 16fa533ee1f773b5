// One run of the program: how it is to be shown, and the root that it is about.
#pragma once

#include <memory>
#include <optional>

#include "cli/command.h"
#include "cli/show/listing.h"
#include "cli/terminal/progress.h"
#include "operations/root.h"
#include "operations/select.h"
#include "os/interrupt.h"

namespace hambrel::cli {

using operations::kStateDirectory;
using operations::kStateFile;
using operations::parse_specs;

class Session {
 public:
  /// `trust_compiled`: see RootOptions.
  Session(const Arguments& arguments, const std::string& command_line, Screen& screen, bool trust_compiled = true);

  const Screen& screen() const { return screen_; }
  bool json() const { return json_; }
  bool quiet() const { return quiet_; }
  Progress& progress() { return progress_; }
  const std::string& command_line() const { return root_->options().command; }
  /// A command that may be copied: "hambrel undo 7" with this run's --root put in, so that it acts on the same system.
  std::string copyable(const std::string& command) const;

  /// For looking; after change() the one that is changed.
  operations::Root& root() { return *root_; }
  const std::string& root_path() const { return root_->options().path; }
  /// Takes the lock, recovers an interrupted transaction, and is from then on what root() is. References to what was
  /// loaded before end here.
  operations::ChangingRoot& change(const Arguments& arguments);
  /// The one that is changed.
  operations::ChangingRoot& changed() { return *changing_; }
  bool changes() const { return root_->changes(); }
  /// Takes the lock; the state is taken to be lost: this run knows of nothing that is installed.
  void without_state(const Arguments& arguments);

  // What commands ask most often.
  os::FileSystem& files() { return root_->files(); }
  const repo::Settings& settings() { return root_->settings(); }
  const std::vector<repo::Repository>& repositories() { return root_->repositories(); }
  const state::State* state() { return root_->state(); }
  const Universe& universe() { return root_->universe(); }
  /// The architecture that specs mean in this run; empty: the root's own first.
  const std::string& arch() const { return root_->options().architecture; }

  /// What `list` would say of all that is installed, if an earlier run has kept it.
  std::optional<Listing> listing();
  /// After a change or a refresh: what later runs need not work out. That it could not be kept is told.
  void remember_installed();
  /// One sentence for each repository that can't be used at all, on standard error.
  void tell_of_unusable_repositories();

 private:
  Screen& screen_;
  bool json_, quiet_;
  Progress progress_;
  std::unique_ptr<operations::Root> root_;
  operations::ChangingRoot* changing_ = nullptr;
};

}  // namespace hambrel::cli
