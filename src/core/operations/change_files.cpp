#include "operations/change_files.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <set>
#include <utility>

#include "base/assert.h"
#include "base/parallel.h"
#include "base/text.h"
#include "model/manifest.h"
#include "operations/account_files.h"
#include "os/host.h"

namespace hambrel::operations {

namespace {

/// --strict: nothing of nobody's is set aside.
void refuse_unowned(const std::vector<plan::Notice>& notices) {
  std::vector<std::string> paths;
  for (const plan::Notice& one : notices)
    if (one.kind == plan::Notice::Kind::Unowned) paths.push_back("/" + printable(one.path) + " (" + one.package + ")");
  if (paths.empty()) return;
  constexpr std::size_t kMost = 5;
  const std::size_t more = paths.size() > kMost ? paths.size() - kMost : 0;
  paths.resize(paths.size() - more);
  throw Error(ErrorCode::Refused,
              fmt::format("files no package owns are in the way: {}{}", join(paths, ", "),
                          more > 0 ? fmt::format(" and {} more", more) : ""),
              {}, "move them away, or leave out --strict: then they are kept in the attic");
}

}  // namespace

namespace {

bool goes(const txn::TreeChange& tree, const std::string& path) {
  return std::any_of(tree.moves.begin(), tree.moves.end(), [&](const txn::PlannedMove& move) {
    return move.kind == state::MoveKind::Remove && move.path == path;
  });
}

}  // namespace

ChangeFiles::ChangeFiles(Root& root, const ChangeRequest& request, const plan::Plan& packages, IncomingFiles& incoming)
    : root_(root), request_(request), packages_(packages), incoming_(incoming), files_(root) {
  if (root_.state() == nullptr) empty_ = std::make_unique<state::State>();
  for (const plan::Step& step : packages_.steps)
    if (step.brings_files()) coming_.push_back(*step.after_id);
  require_known_features();
  tree_options_.workers = os::processors();
  tree_options_.supply = [this](txn::TreeChange& tree) {
    incoming_.supply(tree, tables_, *here_, tree_options_.workers);
  };
  look_up_leaving();
  look_up_entering();
  plan_purge();
  look_up_parties();
  look_up_made();
}

const state::State& ChangeFiles::state() const { return empty_ ? *empty_ : *root_.state(); }

void ChangeFiles::require_known_features() const {
  for (const PackageId id : coming_) {
    const Package& package = root_.universe().package(id);
    if (const std::string feature = unknown_feature(package); !feature.empty())
      throw Error(ErrorCode::Refused,
                  fmt::format("{} needs a hambrel that supports \"{}\"", package.title(), printable(feature)), {},
                  "use a newer hambrel, or an older version of the package");
  }
}

/// With the files of what is replaced, most of which will be the same again: these are looked at from here on.
void ChangeFiles::look_up_leaving() {
  std::vector<std::int64_t> replaced;
  for (const plan::Step& step : packages_.steps) {
    if (!step.before_id || step.only_state()) continue;
    const std::int64_t row = root_.universe()[*step.before_id].installed->row;
    leaving_.push_back(state().package(row));
    if (step.brings_files()) replaced.push_back(row);
  }
  tree_options_.ahead = std::make_shared<txn::LookAhead>(root_.files(), state(), replaced);
  std::vector<std::int64_t> rows;
  for (const state::StatePackage& one : leaving_) rows.push_back(one.row);
  here_.emplace(root_.files(), state(), std::move(rows));
}

void ChangeFiles::look_up_entering() {
  const Universe& universe = root_.universe();
  tables_ = tables_of(root_, coming_, &damaged_);
  for (const PackageId id : coming_)
    archive::require_named_privileges(files_of(id), universe.package(id), universe.package(id).title());
  for (const PackageId id : coming_) {
    const state::StatePackage* const kept = root_.kept(id);
    if (kept != nullptr && !kept_) kept_.emplace(root_.files(), *root_.state(), state::TxnId{0});
    from_kept_.push_back(kept);
    entering_.push_back(
        {universe.package(id), files_of(id), kept != nullptr ? &*kept_ : nullptr, kept != nullptr && kept->shelved});
  }
}

/// With --purge: edited configuration of what is removed, and what earlier versions of it have left behind.
void ChangeFiles::plan_purge() {
  if (!request_.purge) return;
  solve::Names names(request_.purge_also.begin(), request_.purge_also.end());
  for (const plan::Step& step : packages_.steps)
    if (step.action == plan::Action::Remove) names.insert(step.name);
  for (const state::StatePackage& one : leaving_)
    if (names.contains(one.package.name)) tree_options_.purge.insert(one.row);
  for (const txn::ConfigFile& one : txn::configuration_files(root_.files(), state()))
    if (one.state == txn::ConfigState::Leftover && names.contains(one.package.package.name) &&
        tree_options_.gone.insert(one.package.row).second) {
      tree_options_.purge.insert(one.package.row);
      leaving_.push_back(one.package);
    }
}

/// What triggers made can be made again, and goes with their package; what hooks made is data, as configuration is.
void ChangeFiles::look_up_made() {
  for (const plan::Step& step : packages_.steps) {
    if (step.action != plan::Action::Remove) continue;
    for (state::Generated& one : state().generated_by(step.name))
      if (one.by_trigger || request_.purge) made_.push_back(std::move(one));
  }
  std::set<std::string> paths;
  for (const state::Generated& one : made_) paths.insert(one.entry.path);
  for (const state::StatePackage& one : leaving_)
    if (one.package.actions != nullptr && tree_options_.purge.contains(one.row))
      for (const OwnedDirectory& directory : one.package.actions->directories) add_contents(directory.path, paths);
  for (const std::string& path : links_that_go(root_, parties_, rows_)) paths.insert(path);
  tree_options_.made.assign(paths.begin(), paths.end());
}

/// All that lies in a directory, which is no other package's: that is asked when it is planned to go.
void ChangeFiles::add_contents(const std::string& directory, std::set<std::string>& paths) {
  os::FileSystem& files = root_.files();
  const auto info = files.stat(directory);
  if (!info || info->type != os::FileType::Directory) return;
  for (const std::string& name : files.list(directory)) {
    const std::string path = os::join_path(directory, name);
    paths.insert(path);
    add_contents(path, paths);
  }
}

txn::Planned ChangeFiles::plan(const Decisions& decisions, const GivenAnswers& answers) {
  txn::Planned planned;
  planned.plan = packages_;
  for (const txn::Entering& one : entering_) planned.sources.push_back({one.package, nullptr});
  tree_options_.choices = decisions;
  planned.tree = txn::plan_tree(root_.files(), state(), leaving_, entering_, tree_options_);
  tree_options_.ahead.reset();  // it looked for the first of them
  for (plan::Step& step : planned.plan.steps)
    if (step.brings_files()) {
      step.download = download_of(step);
      step.whole = incoming_.whole_of(*step.after_id);
    }
  for (const state::Generated& one : made_)
    if (!root_.files().stat(one.entry.path) || goes(planned.tree, one.entry.path))
      planned.generated.push_back({one.entry.path, one, std::nullopt});
  txn::source_missing_content(planned, from_kept_, files_.file_of());
  planned.tell_of_files();
  std::vector<std::pair<const Account*, std::string>> accounts;
  for (const txn::Entering& one : entering_)
    if (one.package.actions != nullptr)
      for (const Account& account : one.package.actions->accounts) accounts.emplace_back(&account, one.package.name);
  add_accounts(root_, planned, accounts, accounts_that_go(), [this](const txn::Put& put) { return content_of(put); });
  ActingTerms acting = request_.acting;
  acting.prepares = request_.end == End::Prepare;
  acting.answers.insert(answers.begin(), answers.end());
  acting.may_ask = acting.may_ask || request_.end == End::FetchOnly;
  planned.picks = request_.picks;
  add_runs(root_, planned, parties_, rows_, acting);
  for (const auto& more : {privileges(), dangers()})
    planned.plan.notices.insert(planned.plan.notices.end(), more.begin(), more.end());
  if (request_.strict) refuse_unowned(planned.plan.notices);
  return planned;
}

/// What lies damaged in the cache is fetched again, all of it.
ByteCount ChangeFiles::download_of(const plan::Step& step) const {
  const PackageId id = *step.after_id;
  const bool is_damaged = std::find(damaged_.begin(), damaged_.end(), id) != damaged_.end();
  return is_damaged ? root_.universe()[id].offers.front().size : incoming_.missing_of(id).value_or(step.download);
}

/// Of what is purged, where nothing else that is or will be installed asks for them.
std::vector<std::pair<const Account*, std::string>> ChangeFiles::accounts_that_go() const {
  std::vector<std::pair<const Account*, std::string>> going;
  if (!request_.purge) return going;
  std::set<std::string> needed;
  const auto needs = [&](const SharedActions& actions) {
    if (actions == nullptr) return;
    for (const Account& one : actions->accounts) needed.insert(one.name);
  };
  for (const txn::Entering& one : entering_) needs(one.package.actions);
  for (const state::StatePackage& one : state().acting())
    if (!rows_.contains(one.row)) needs(one.package.actions);
  for (const rehearsal::Party& party : parties_)
    if (party.after.empty() && party.was != nullptr)
      for (const Account& one : party.was->accounts)
        if (!needed.contains(one.name)) going.emplace_back(&one, party.name);
  return going;
}

/// The packages that change, with what they ask for, in the order of their steps.
void ChangeFiles::look_up_parties() {
  auto leaving = leaving_.begin();  // they stand in the order of the steps
  for (const plan::Step& step : packages_.steps) {
    if (step.only_state()) continue;
    rehearsal::Party& party = parties_.emplace_back();
    party.name = step.name;
    party.downgrades = step.action == plan::Action::Downgrade;
    party.only_files = step.action == plan::Action::Unshelve;
    const auto* const kept = step.after_id ? root_.kept(*step.after_id) : nullptr;
    party.origin = kept != nullptr ? kept->origin : step.origin;
    if (step.before_id) {
      HAMBREL_ASSERT(leaving != leaving_.end() && leaving->package.name == step.name, "what leaves was looked up");
      rows_.insert(leaving->row);
      party.before = step.before;
      party.was = leaving->package.actions;
      ++leaving;
    }
    if (!step.after_id) continue;
    party.after = step.after;
    party.is = root_.universe().package(*step.after_id).actions;
  }
}

std::vector<ConfigQuestion> ChangeFiles::questions(const txn::Planned& planned) const {
  if (planned.tree.conflicts.empty()) return {};
  return questions_of(root_, planned.tree.conflicts, coming_, tables_, planned.plan);
}

std::string ChangeFiles::content_of(const txn::Put& put) const {
  const PackageId id = coming_.at(put.package);
  return operations::content_of(root_, id, std::string(put.path_in_package()), tables_.at(id));
}

/// Files that run with another's rights, where the version that leaves did not have them.
std::vector<plan::Notice> ChangeFiles::privileges() const {
  std::vector<plan::Notice> notices;
  for (const txn::Entering& one : entering_)
    for (const std::string& path : one.package.privileged) {
      const bool known = std::any_of(leaving_.begin(), leaving_.end(), [&](const state::StatePackage& old) {
        const auto& before = old.package.privileged;
        return std::find(before.begin(), before.end(), path) != before.end();
      });
      if (!known) notices.push_back({plan::Notice::Kind::Privileged, path, one.package.name});
    }
  return notices;
}

namespace {

/// Is it a setting of Hambrel's own, or a directory that every user may change?
std::optional<plan::Notice::Kind> danger_of(const FileList& list, std::size_t number) {
  constexpr std::uint32_t kForAll = 0002, kSticky = 01000;
  if (list.type(number) != EntryType::Directory) {
    const bool sets = list.path(number).starts_with("etc/hambrel/");
    return sets ? std::optional(plan::Notice::Kind::OwnSettings) : std::nullopt;
  }
  const bool opens = (list.facts(number).mode & (kForAll | kSticky)) == kForAll;
  return opens ? std::optional(plan::Notice::Kind::OpenToAll) : std::nullopt;
}

}  // namespace

/// Where what leaves had neither.
std::vector<plan::Notice> ChangeFiles::dangers() const {
  std::vector<plan::Notice> notices;
  std::optional<std::set<std::pair<std::string, std::uint32_t>>> before;  // paths and modes
  const auto was_there = [&](std::string_view path, std::uint32_t mode) {
    if (!before) {
      before.emplace();
      for (const state::StatePackage& old : leaving_) {
        const auto list = state().files_of(old.row);
        for (std::size_t i = 0; i < list->size(); ++i)
          if (danger_of(*list, i)) before->emplace(list->path(i), list->facts(i).mode);
      }
    }
    return before->contains({std::string(path), mode});
  };
  for (const txn::Entering& one : entering_)
    for (std::size_t i = 0; i < one.files.size(); ++i) {
      const auto kind = danger_of(one.files, i);
      const std::string_view path = one.files.path(i);
      if (kind && !was_there(path, one.files.facts(i).mode))
        notices.push_back({*kind, std::string(path), one.package.name});
    }
  return notices;
}

}  // namespace hambrel::operations
