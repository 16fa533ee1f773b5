// One run of the program: how it is to be shown, and the root that it is about.
#pragma once

#include <array>
#include <memory>
#include <string>
#include <string_view>

#include <nlohmann/json_fwd.hpp>

#include "cli/command.h"
#include "cli/terminal/progress.h"
#include "operations/root.h"
#include "operations/select.h"

namespace hambrel::operations {
struct SavedPlan;
}

namespace hambrel::cli {

using operations::parse_specs;

/// As much of a key's id as tells keys apart for people.
inline std::string short_id(const std::string& id) { return id.substr(0, 16); }

/// A fingerprint in two lines, as it does not fit into one of 80 columns.
inline std::array<std::string, 2> halves_of(const std::string& fingerprint_text) {
  const std::size_t middle = fingerprint_text.size() / 2;  // a blank
  return {fingerprint_text.substr(0, middle), fingerprint_text.substr(middle + 1)};
}

class Session {
 public:
  /// `trust_compiled`: see RootOptions.
  Session(const Arguments& arguments, const std::string& command_line, Screen& screen, bool trust_compiled = true);

  const Screen& screen() const { return screen_; }
  bool json() const { return json_; }
  bool quiet() const { return quiet_; }
  bool verbose() const { return verbose_; }
  Progress& progress() { return progress_; }
  /// A command that may be copied: "hambrel undo 7" with this run's --root put in, so that it acts on the same system.
  std::string copyable(const std::string& command) const;
  /// A line of JSON for programs.
  void document(const nlohmann::json& document) const;
  /// One thing: a document with --json, else a sentence, unless --quiet was given.
  void say(const nlohmann::json& document, std::string_view sentence) const;

  /// For looking; after change() the one that is changed.
  operations::Root& root() { return *root_; }
  const std::string& root_path() const { return root_->options().path; }
  const Universe& universe() { return root_->universe(); }
  /// Takes the lock, recovers an interrupted transaction, and is from then on what root() is. References to what was
  /// loaded before end here.
  operations::ChangingRoot& change(const Arguments& arguments);
  /// The one that is changed.
  operations::ChangingRoot& changed() { return *changing_; }
  bool changes() const { return root_->changes(); }
  /// Takes the lock; the state is taken to be lost: this run knows of nothing that is installed.
  void without_state(const Arguments& arguments);
  /// What is proposed in this run has to be what was saved.
  void expect(std::shared_ptr<const operations::SavedPlan> saved) { expected_ = std::move(saved); }
  const operations::SavedPlan* expected() const { return expected_.get(); }
  /// One sentence for each repository that can't be used at all, on standard error.
  void tell_of_unusable_repositories();

 private:
  Screen& screen_;
  bool json_, quiet_, verbose_;
  Progress progress_;
  std::unique_ptr<operations::Root> root_;
  operations::ChangingRoot* changing_ = nullptr;
  std::shared_ptr<const operations::SavedPlan> expected_;
};

}  // namespace hambrel::cli
