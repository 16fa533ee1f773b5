// Planning a repair: what verify() found, put back.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "txn/kept.h"
#include "txn/verify.h"

namespace hambrel::txn {

using state::MoveKind;
using state::StatePackage;

namespace {

class Repair {
 public:
  Repair(os::FileReader& root, const state::State& state, const std::vector<StatePackage>& packages,
         const FileOf& file_of)
      : root_(root),
        homes_(root),
        state_(state),
        packages_(packages),
        file_of_(file_of),
        kept_(root, state, state::TxnId{0}) {
    result_.plan.kind = "repair";
    for (std::size_t i = 0; i < packages_.size(); ++i) by_row_.emplace(packages_[i].row, i);
  }

  Planned run(const Verified& verified) {
    for (const Finding& one : verified.findings)
      if (one.is_damage() && one.made_by.empty()) with_other_names(one);  // what was made is made again
    for (auto& [path, one] : damaged_) put_back(one);
    for (const auto& [row, step] : steps_) result_.plan.steps.push_back(step);
    for (const Put& put : result_.tree.puts) result_.tree.staged_bytes += put.entry.size();
    result_.tell_of_files();
    require_feasible(root_, result_.tree);
    return std::move(result_);
  }

 private:
  /// All names of a hard-linked file are put back together.
  void with_other_names(const Finding& one) {
    if (!damaged_.emplace(one.entry.path, one).second || one.entry.type == EntryType::Directory) return;
    const std::string file = one.entry.type == EntryType::HardLink ? one.entry.target : one.entry.path;
    const Names& names = names_of(one.package_row);
    const auto add = [&](std::size_t number) {
      Finding other = one;
      other.entry = names.list->entry(number);
      damaged_.emplace(other.entry.path, other);
    };
    if (const auto number = names.list->find(file); number && names.list->type(*number) != EntryType::HardLink)
      add(*number);
    const auto [first, last] = names.links.equal_range(file);
    for (auto link = first; link != last; ++link) add(link->second);
  }

  /// What a package has, with its hard links by the file that they are names of.
  struct Names {
    std::shared_ptr<const FileList> list;
    std::multimap<std::string, std::size_t> links;
  };
  const Names& names_of(std::int64_t row) {
    const auto [place, is_new] = names_.try_emplace(row);
    Names& names = place->second;
    if (!is_new) return names;
    names.list = state_.files_of(row);
    for (std::size_t i = 0; i < names.list->size(); ++i)
      if (names.list->type(i) == EntryType::HardLink) names.links.emplace(names.list->target(i), i);
    return names;
  }

  void put_back(const Finding& one) {
    const FileEntry& entry = one.entry;
    const bool reached = !root_.strange_link(entry.path);  // what lies behind such a link is not the package's
    const auto here = reached ? root_.stat(entry.path) : std::nullopt;
    const std::size_t package = index_of(one.package_row);
    if (entry.type == EntryType::Directory && here && here->type == os::FileType::Directory) {
      result_.tree.moves.push_back({MoveKind::Attributes, entry.path, homes_.of(entry.path), entry});
      return count(one, "");
    }
    Put put{entry, package, {}, homes_.of(entry.path)};
    std::string origin = "attic";
    if (entry.type == EntryType::File) {
      if (const auto place = kept_.find(entry, put.home())) {
        put.own_rest().kept = *place;
      } else if (archive::PackageReader* const reader = reader_for(package); reader != nullptr && has(*reader, entry)) {
        origin = packages_[of_source_[package]].origin;
      } else {
        lost_.insert(entry.path);
        result_.tree.notices.push_back({plan::Notice::Kind::Lost, entry.path, one.package});
        return;
      }
    }
    if (entry.type == EntryType::HardLink && lost_.contains(entry.target)) return;
    result_.tree.puts.push_back(std::move(put));
    count(one, origin);
    for (std::string_view above = os::parent_of(entry.path); !above.empty(); above = os::parent_of(above))
      if (whole_.contains(above)) return;  // comes with its directory
    if (entry.type == EntryType::Directory) whole_.insert(entry.path);
    result_.tree.moves.push_back({here ? MoveKind::Exchange : MoveKind::Place, entry.path, homes_.of(entry.path)});
  }

  static bool has(const archive::PackageReader& reader, const FileEntry& entry) {
    const auto there = reader.find(entry.path);
    return there && there->type == EntryType::File && there->digest == entry.digest;
  }

  /// Its place among the sources.
  std::size_t index_of(std::int64_t row) {
    const auto [place, is_new] = source_of_.try_emplace(row, of_source_.size());
    if (!is_new) return place->second;
    const auto package = by_row_.find(row);
    HAMBREL_ASSERT(package != by_row_.end(), "what is damaged is of one of the packages");
    of_source_.push_back(package->second);
    result_.sources.push_back({packages_[package->second].package, nullptr});
    HAMBREL_ASSERT(of_source_.size() == result_.sources.size(), "each source is one of the packages");
    return place->second;
  }

  archive::PackageReader* reader_for(std::size_t source) {
    if (asked_.insert(source).second) result_.sources[source].reader = file_of_(packages_[of_source_[source]]).reader;
    return result_.sources[source].reader;
  }

  void count(const Finding& one, const std::string& origin) {
    const StatePackage& package = packages_[of_source_[index_of(one.package_row)]];
    HAMBREL_ASSERT(package.row == one.package_row, "it is counted for its own package");
    plan::Step& step = steps_[one.package_row];
    step.action = plan::Action::Repair;
    step.name = package.package.name;
    step.arch = package.package.arch;
    step.before = step.after = package.package.version.text();
    step.reason = package.reason;
    if (!origin.empty() && (step.origin.empty() || origin != "attic")) step.origin = origin;
    ++damage_[one.package_row];
    step.why = {plan::WhyKind::Damaged, std::to_string(damage_[one.package_row]), ""};
  }

  os::FileReader& root_;
  StagingHomes homes_;
  const state::State& state_;
  const std::vector<StatePackage>& packages_;
  const FileOf& file_of_;
  const Kept kept_;
  std::map<std::string, Finding> damaged_;                  // by path: directories before what is in them
  std::map<std::int64_t, Names> names_;                     // by row, of what is damaged
  std::map<std::int64_t, std::size_t> by_row_, source_of_;  // index into the packages, and into the sources
  std::vector<std::size_t> of_source_;                      // index into the packages, by source
  std::set<std::size_t> asked_;
  std::set<std::string> lost_;
  std::set<std::string, std::less<>> whole_;
  std::map<std::int64_t, plan::Step> steps_;
  std::map<std::int64_t, std::size_t> damage_;
  Planned result_;
};

}  // namespace

Planned plan_repair(os::FileReader& root, const state::State& state, const std::vector<StatePackage>& packages,
                    const Verified& verified, const FileOf& file_of) {
  return Repair(root, state, packages, file_of).run(verified);
}

}  // namespace hambrel::txn
