// What a change of packages is made of beside the packages: their tables of contents and lists, what leaves and what
// enters. Looked up once; the tree is planned from it as often as decisions about configuration change it.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "operations/change.h"
#include "operations/incoming_files.h"
#include "operations/supply.h"
#include "txn/kept.h"
#include "txn/tree_change.h"

namespace hambrel::operations {

class ChangeFiles {
 public:
  /// Throws Error{Refused} for a package that needs a newer installer, or has rights that it does not name.
  ChangeFiles(Root& root, const ChangeRequest& request, const plan::Plan& packages, IncomingFiles& incoming);
  ChangeFiles(const ChangeFiles&) = delete;
  ChangeFiles& operator=(const ChangeFiles&) = delete;

  /// The plan of packages together with all that is known of their files, under these decisions.
  /// Throws Error{Refused} for what files stand in the way.
  txn::Planned plan(const Decisions& decisions, const GivenAnswers& answers = {});
  /// What `planned` leaves to be decided.
  std::vector<ConfigQuestion> questions(const txn::Planned& planned) const;

  /// Of what is staged from a package file; no more of it is fetched than that.
  std::string content_of(const txn::Put& put) const;

  const Tables& tables() const { return tables_; }
  /// All that a package brings that comes.
  const FileList& files_of(PackageId id) const { return tables_.at(id)->files(); }
  /// What lies damaged in the cache.
  const std::vector<PackageId>& damaged() const { return damaged_; }

 private:
  const state::State& state() const;
  ByteCount download_of(const plan::Step& step) const;
  void require_known_features() const;
  void look_up_leaving();
  void look_up_entering();
  void plan_purge();
  void look_up_parties();
  void look_up_made();
  std::vector<std::pair<const Account*, std::string>> accounts_that_go() const;
  void add_contents(const std::string& directory, std::set<std::string>& paths);
  std::vector<plan::Notice> privileges() const;
  std::vector<plan::Notice> dangers() const;

  Root& root_;
  const ChangeRequest& request_;
  std::vector<state::Generated> made_;  // by programs of what is removed: it goes, too
  std::vector<rehearsal::Party> parties_;
  std::set<std::int64_t> rows_;  // of what leaves, in the state
  const plan::Plan& packages_;
  IncomingFiles& incoming_;
  std::unique_ptr<state::State> empty_;  // for a dry run on a root without a state
  std::vector<PackageId> coming_;
  Tables tables_;
  std::vector<PackageId> damaged_;
  std::optional<ContentHere> here_;
  std::optional<txn::Kept> kept_;
  std::vector<const state::StatePackage*> from_kept_;  // by entering package; nullptr: not from there
  std::vector<state::StatePackage> leaving_;
  std::vector<txn::Entering> entering_;
  txn::TreeOptions tree_options_;
  VersionFiles files_;
};

}  // namespace hambrel::operations
