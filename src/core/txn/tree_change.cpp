#include "txn/tree_change.h"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <set>
#include <span>

#include "base/assert.h"
#include "base/error.h"
#include "base/parallel.h"
#include "os/neighbours.h"
#include "txn/disk_facts.h"
#include "txn/sides.h"

namespace hambrel::txn {

namespace {

using os::FileInfo;
using os::FileType;
using plan::Notice;
using state::MoveKind;

/// What stands where something comes.
struct Seen {
  std::optional<FileInfo> disk{};
  std::optional<Inheritance> given{};  // by a directory
};

/// A directory that is placed as a whole (C6): what holds for it holds for all that comes below it.
struct Whole {
  SharedText home;
  Inheritance given;
};

bool is_own_directory(std::string_view path) {
  return path == kHome || path == "var/cache/hambrel" || path == "etc/hambrel" || os::name_of(path) == kForeignHome;
}

class Planner {
 public:
  Planner(os::FileReader& root, const state::State& state, const std::vector<state::StatePackage>& leaving,
          const std::vector<Entering>& entering, const TreeOptions& options)
      : root_(root),
        homes_(root),
        leaving_(leaving),
        entering_(entering),
        options_(options),
        sides_(root, state, leaving, entering, options),
        rules_(root, state, options.choices) {}

  TreeChange run() {
    follow_defaults();
    plan_arrivals();
    for (auto path = options_.made.rbegin(); path != options_.made.rend(); ++path) plan_departure_of_made(*path);
    for (auto file = sides_.old().rbegin(); file != sides_.old().rend(); ++file)
      if (!file->stays) plan_departure(*file);
    const auto by_path = [](const Put& a, const Put& b) { return a.entry.path() < b.entry.path(); };
    if (!std::is_sorted(change_.puts.begin(), change_.puts.end(), by_path))  // they are large
      std::sort(change_.puts.begin(), change_.puts.end(), by_path);
    for (const Put& put : change_.puts) change_.staged_bytes += put.entry.size();
    check_hard_links();
    order_moves();
    change_.moves.shrink_to_fit();  // there may be one for each file, and twice the room for it
    for (const Put& put : change_.puts)
      HAMBREL_ASSERT(put.package == Put::npos || put.package < entering_.size(), "what is put is of what enters");
    change_.notices.insert(change_.notices.begin(), rules_.notices.begin(), rules_.notices.end());
    change_.configs.insert(change_.configs.begin(), rules_.steps.begin(), rules_.steps.end());
    change_.conflicts = std::move(rules_.conflicts);
    change_.lists = sides_.lists();
    return std::move(change_);
  }

 private:
  [[noreturn]] static void refuse(const std::string& what, std::string_view path, const std::string& hint) {
    throw Error(ErrorCode::Refused, what, "/" + std::string(path), hint);
  }

  const std::string& name_of(const Coming& coming) const { return sides_.name_of(coming); }

  /// C3.6: configuration that a version has no more, and that the one in its place has where nothing was.
  void follow_defaults() {
    std::map<std::size_t, std::vector<const Old*>> lost;  // by leaving package
    for (const Old& old : sides_.old())
      if (is_config(old) && is_lost(old) && !is_gone(old)) lost[old.package].push_back(&old);
    if (lost.empty()) return;
    std::map<std::size_t, std::vector<const Coming*>> fresh;  // by entering package
    for (const Coming& coming : sides_.coming())
      if (is_config(coming) && !entering_[coming.package].with_edits && is_fresh(coming))
        fresh[coming.package].push_back(&coming);
    const auto title = [](const Package& package) { return std::pair(package.name, package.arch); };
    std::multimap<std::pair<std::string, std::string>, const std::vector<const Coming*>*> by_title;
    for (const auto& [after, comings] : fresh) by_title.emplace(title(entering_[after].package), &comings);
    for (const auto& [before, olds] : lost)
      for (auto [one, last] = by_title.equal_range(title(leaving_[before].package)); one != last; ++one)
        follow(olds, *one->second);
  }
  void follow(const std::vector<const Old*>& olds, const std::vector<const Coming*>& comings) {
    std::vector<ConfigDefault> from, to;
    for (const Old* const one : olds) from.push_back({one->path, one->entry().digest});
    for (const Coming* const one : comings) to.push_back({one->path, one->list->digest(one->number)});
    for (const auto& [i, k] : moved_defaults(from, to))
      if (follows_.emplace(comings[k]->path, olds[i]).second) followed_.insert(olds[i]);
  }

  /// Nothing stood there, or a directory that becomes this file.
  bool is_fresh(const Coming& coming) {
    if (coming.before != nullptr) return coming.before->type() == EntryType::Directory;
    return !looker_.stat(coming.path);
  }
  bool is_lost(const Old& old) const {
    const Coming* const there = sides_.coming_at(old.path);
    return there == nullptr || there->type() == EntryType::Directory;
  }

  void plan_arrivals() {
    std::vector<const Coming*> comings;
    for (const Coming& coming : sides_.coming())
      if (!coming.unchanged || coming.list->config(coming.number)) comings.push_back(&coming);
    change_.puts.reserve(comings.size());
    constexpr std::size_t kLooks = 16384;  // at so many in one go
    for (std::size_t first = 0; first < comings.size(); first += kLooks) {
      const auto some = std::span(comings).subspan(first, std::min(kLooks, comings.size() - first));
      std::vector<Seen> seen = look_at(some);
      for (std::size_t i = 0; i < some.size(); ++i) plan_arrival(std::string(some[i]->path), *some[i], seen[i]);
    }
  }

  /// Nothing is below a directory that is placed as a whole.
  std::vector<Seen> look_at(std::span<const Coming* const> comings) {
    std::vector<Seen> seen(comings.size());
    std::vector<std::size_t> open;
    for (std::size_t i = 0; i < comings.size(); ++i)
      if (in_whole(comings[i]->path) == nullptr) open.push_back(i);
    in_portions(open.size(), options_.workers, kFewLooks, [&](std::size_t first, std::size_t last) {
      os::Looker looker(root_);
      for (std::size_t i = first; i < last; ++i) {
        const std::string_view path = comings[open[i]]->path;
        auto& [disk, given] = seen[open[i]];
        disk = looker.stat(path);
        if (disk && disk->type == FileType::Directory) given = Inheritances::from(root_, *disk, std::string(path));
      }
    });
    return seen;
  }

  /// The directory above `path` that is placed as a whole, or null.
  const Whole* in_whole(std::string_view path) {
    const auto parent = os::parent_of(path);
    if (parent != asked_of_ || whole_.size() != asked_at_) {  // most come in the directory of the one before
      asked_of_ = parent;
      asked_at_ = whole_.size();
      answer_ = nullptr;
      for (auto above = parent; !above.empty() && answer_ == nullptr; above = os::parent_of(above))
        if (const auto found = whole_.find(above); found != whole_.end()) answer_ = &found->second;
    }
    return answer_;
  }
  void place_whole(const std::string& path) {
    const bool once = whole_.emplace(path, Whole{homes_.of(path), inheritances_.of(os::parent_of(path))}).second;
    HAMBREL_ASSERT(once, "a directory is placed once");
  }

  void put(const PutEntry& what, std::size_t package, const std::string& source,
           const ConfigRules::Outcome* written = nullptr) {
    const std::string_view path = what.path();
    HAMBREL_ASSERT(!path.empty(), "the root itself is no package's");
    const Whole* const whole = in_whole(path);
    const SharedText& home = whole != nullptr ? whole->home : homes_.of(path);
    change_.puts.push_back({what, package, source == path ? std::string_view() : source, home});
    Put& one = change_.puts.back();
    if (package == Put::npos) return;
    if (written != nullptr) {  // it is what it is, wherever it comes into
      FileEntry other = written->entry;
      other.path = path;
      one.entry = std::move(other);
      if (!written->kept.empty()) one.own_rest().kept = written->kept;
      if (written->content) one.own_rest().content = *written->content;
      return;
    }
    if (entering_[package].kept != nullptr && what.type() == EntryType::File && bring_back(one, source)) return;
    const Inheritance& given = whole != nullptr ? whole->given : inheritances_.of(os::parent_of(path));
    if (what.group() == "root" && given.group) one.own_rest().group = given.group;
    if (!given.default_acl.empty()) one.own_rest().default_acl = given.default_acl;
  }

  /// Out of the attic, if it is there. Is it as it was, edits included, and so has nothing of what it comes into?
  bool bring_back(Put& one, const std::string& source) {
    const Entering& entering = entering_[one.package];
    FileEntry entry = one.entry.whole();
    const bool edits = entry.config && entering.with_edits;
    FileEntry wanted = entry;
    wanted.path = source;
    const auto place =
        edits ? entering.kept->find_configuration(wanted, one.home()) : entering.kept->find(wanted, one.home());
    if (!place) return false;
    one.own_rest().kept = *place;
    if (!edits) return false;
    const FileInfo was = root_.stat_present(*place);
    entry.digest = root_.digest(*place);
    entry.size = was.size;
    entry.mode = was.mode;
    entry.mtime = was.mtime_seconds;
    entry.user = std::to_string(was.uid);
    entry.group = std::to_string(was.gid);
    entry.attributes = own_attributes(root_, *place);
    one.entry = std::move(entry);
    return true;
  }
  void move(MoveKind kind, const std::string& path) { change_.moves.push_back({kind, path, homes_.of(path)}); }

  /// All names of a hard-linked file are made in one stage.
  void check_hard_links() const {
    for (const Put& put : change_.puts) {
      const Put* const file = put.entry.type() == EntryType::HardLink ? find_put(change_, put.entry.target()) : &put;
      HAMBREL_ASSERT(file != nullptr, "a hard link comes with its file");
      if (file->home() == put.home()) continue;
      refuse(fmt::format("is a hard link to /{}, which is on another file system here", put.entry.target()),
             put.entry.path(), "mount the two directories as one file system, or leave out the package");
    }
  }
  void notice(Notice::Kind kind, const std::string& path, const std::string& package) {
    change_.notices.push_back({kind, path, package});
  }

  void plan_arrival(const std::string& path, const Coming& coming, Seen& seen) {
    const bool config = is_config(coming);
    if (config) keep_pristine(coming);
    if (!config && coming.unchanged) return;
    const std::string& name = name_of(coming);
    const bool below = in_whole(path) != nullptr;
    const auto& disk = below ? nowhere_ : seen.disk;
    const Old* const before = coming.before;
    if (coming.type() == EntryType::Directory) {
      if (disk) homes_.directories().remember(path, *disk);
      if (disk && seen.given) inheritances_.remember(path, std::move(*seen.given));
      return plan_directory(path, coming, below, disk);
    }
    std::optional<ConfigRules::Outcome> outcome;
    if (config && (!below || follows_.contains(path))) {
      outcome = judge(path, coming, disk);
      if (outcome->kind == ConfigRules::Outcome::Kind::Leave) return;
    }
    const bool written = outcome && outcome->kind == ConfigRules::Outcome::Kind::Write;
    if (coming.unchanged && !written) return;
    put(coming.as_put(), coming.package, path, written ? &*outcome : nullptr);
    if (below) return;
    if (!disk) return move(MoveKind::Place, path);
    if (disk->type == FileType::Directory) {
      if (before == nullptr || before->type() != EntryType::Directory)
        refuse(fmt::format("there is a directory where {} has a file", name), path,
               "move the directory away, then run the command again");
      becomes_file_.insert(path);
    } else if (before == nullptr) {
      if (!config || rules_.conflicts.empty() || rules_.conflicts.back().path != path)  // that is told with its choice
        notice(coming.shared ? Notice::Kind::Changed : Notice::Kind::Unowned, path, name);
    } else if (before->type() == EntryType::File && !as_recorded(root_, looker_, before->entry()) && !config) {
      notice(Notice::Kind::Changed, path, name);
    }
    move(MoveKind::Exchange, path);
  }

  void plan_directory(const std::string& path, const Coming& coming, bool below, const std::optional<FileInfo>& disk) {
    const Old* const before = coming.before;
    const bool ours = before != nullptr;
    const std::string& name = name_of(coming);
    if (below) return put(coming.as_put(), coming.package, path);
    if (!disk || disk->type != FileType::Directory) {
      if (disk && disk->type == FileType::Symlink) {
        // an administrator's link to a directory elsewhere in the root does as well
        const auto behind = root_.stat_followed(path);
        const bool followed = behind && behind->type == FileType::Directory && !root_.strange_link(path + "/x");
        if (behind && behind->type == FileType::Directory && !followed)
          refuse(fmt::format("a symbolic link that root does not control is in the place of a directory of {}", name),
                 path,
                 ours ? fmt::format("look at it with ls -l; `hambrel repair {}` puts the directory back", name)
                      : "look at it with ls -l; move it away, then run the command again");
        if (followed && (!ours || before->type() == EntryType::Directory)) return;
      }
      if (disk && !(ours && before->type() != EntryType::Directory))
        refuse(fmt::format("there is a file where {} has a directory", name), path,
               "move the file away, then run the command again");
      if (disk && ours && before->list->config(before->number) && disk->type == FileType::Regular &&
          !followed_.contains(before))
        if (root_.digest(path) != before->entry().digest) notice(Notice::Kind::ConfigDisplaced, path, name);
      put(coming.as_put(), coming.package, path);
      place_whole(path);
      return move(disk ? MoveKind::Exchange : MoveKind::Place, path);
    }
    if (!ours || before->type() != EntryType::Directory) return;
    const FileEntry was = before->entry();
    const FileEntry becomes = coming.entry();
    if (was.mode == becomes.mode && was.user == becomes.user && was.group == becomes.group) return;
    if (coming.shared) return;  // the first owner's word stands
    change_.moves.push_back({MoveKind::Attributes, path, homes_.of(path), becomes});
  }

  /// C3 for a configuration file that a package brings.
  ConfigRules::Outcome judge(const std::string& path, const Coming& coming, const std::optional<FileInfo>& disk) {
    const Entering& entering = entering_[coming.package];
    const FileEntry comes = coming.entry();
    ConfigRules::Case one{path, name_of(coming), coming.package, &comes};
    one.disk = disk;
    one.from_kept = entering.kept != nullptr;
    one.from_shelf = entering.from_shelf;
    if (coming.before != nullptr && coming.before->type() == EntryType::File) one.before = coming.before->entry();
    if (const auto followed = follows_.find(path); followed != follows_.end()) {
      one.before = followed->second->entry();
      one.from = followed->second->path;
      one.disk = looker_.stat(one.from);
    }
    auto outcome = rules_.judge(one);
    if (outcome.leaves_from) left_behind_.insert(one.from);
    if (outcome.asides == ConfigRules::Asides::Drop) drop_asides(path);
    if (!one.from.empty()) drop_asides(one.from);
    if (outcome.asides == ConfigRules::Asides::Wait) {
      FileEntry file = comes;
      file.path = waiting_place(path);
      put_aside(file, coming.package, path, "");
      if (outcome.base.empty() || root_.stat(base_place(path))) return outcome;
      FileEntry base;
      base.path = base_place(path);
      base.mode = 0600;
      base.config = true;
      base.size = root_.stat_present(outcome.base).size;
      base.digest = root_.digest(outcome.base);
      put_aside(base, Put::npos, "", outcome.base);
    }
    return outcome;
  }

  void keep_pristine(const Coming& coming) {
    constexpr ByteCount kMost = 4 << 20;  // nobody merges what is larger
    const FileEntry entry = coming.entry();
    if (entry.size > kMost || find_pristine(root_, entry.digest)) return;
    const Kept* const kept = entering_[coming.package].kept;
    const auto place = kept == nullptr ? std::nullopt : kept->find_content(entry.path, entry.digest);
    change_.pristine.push_back({coming.package, entry, place.value_or("")});
  }

  void drop_asides(const std::string& path, bool base = true) {
    if (!options_.asides) return;
    if (const std::string at = waiting_place(path); root_.stat(at)) move(MoveKind::Remove, at);
    if (const std::string at = base_place(path); base && root_.stat(at)) move(MoveKind::Remove, at);
  }

  /// Something below kConfigs, with the directories that it needs.
  void put_aside(const FileEntry& file, std::size_t package, const std::string& source, const std::string& kept) {
    HAMBREL_ASSERT(os::is_below(file.path, kConfigs), "what waits lies where it is looked for");
    std::vector<std::string> missing;
    for (std::string parent(os::parent_of(file.path)); !parent.empty() && !root_.stat(parent);
         parent = os::parent_of(parent))
      if (aside_directories_.insert(parent).second) missing.push_back(parent);
    for (auto parent = missing.rbegin(); parent != missing.rend(); ++parent) {
      FileEntry directory;
      directory.path = *parent;
      directory.type = EntryType::Directory;
      directory.mode = 0755;
      put(directory, Put::npos, "");
      if (in_whole(*parent)) continue;
      place_whole(*parent);
      move(MoveKind::Place, *parent);
    }
    put(file, package, source);
    if (!kept.empty()) change_.puts.back().own_rest().kept = kept;
    if (!in_whole(file.path)) move(root_.stat(file.path) ? MoveKind::Exchange : MoveKind::Place, file.path);
  }

  bool is_gone(const Old& old) const { return options_.gone.contains(leaving_[old.package].row); }

  /// A path of a leaving package that no entering one brings. Called deepest first.
  void plan_departure(const Old& old) {
    if (old.shared && sides_.staying_owner_of(old.path, &old)) return;
    const FileEntry entry = old.entry();
    const std::string& name = leaving_[old.package].package.name;
    const auto disk = looker_.stat(entry.path);
    if (!disk || in_whole(entry.path)) return;
    // below something that becomes a file or was a link on the disk: gone with it, or not ours
    if (entry.type == EntryType::Directory) {
      if (disk->type != FileType::Directory || (is_gone(old) && removed_.empty())) return;
      if (!is_emptied(entry.path, is_gone(old) ? "" : name)) return;
      if (!root_.can_rename_directory(entry.path, *disk, kHome)) {
        told_.insert(entry.path);
        return notice(Notice::Kind::DirectoryLower, entry.path, name);
      }
    } else if (disk->type == FileType::Directory) {
      return;  // the administrator made a directory of it
    } else if (entry.config && leaving_[old.package].shelved) {
      told_.insert(entry.path);
      return;
    } else if (is_config(old) && !left_behind_.contains(entry.path)) {
      const bool edited = disk->type == FileType::Regular && root_.digest(entry.path) != entry.digest;
      const bool purged = options_.purge.contains(leaving_[old.package].row), gone = is_gone(old);
      const bool leaves = options_.leave.contains(entry.path);
      if (edited && !purged && !leaves) {
        told_.insert(entry.path);
        drop_asides(entry.path, false);
        return notice(Notice::Kind::Leftover, entry.path, name);
      }
      drop_asides(entry.path);
      if (edited || gone)
        change_.configs.push_back({leaves ? plan::ConfigAction::Restore : plan::ConfigAction::Purge, entry.path, name,
                                   "", root_.digest(entry.path), std::nullopt, gone});
    }
    if (entry.type == EntryType::File && !entry.config && !as_recorded(root_, looker_, entry))
      notice(Notice::Kind::Changed, entry.path, name);
    removed_.insert(entry.path);
    move(MoveKind::Remove, entry.path);
  }

  void plan_departure_of_made(const std::string& path) {
    const auto disk = looker_.stat(path);
    if (!disk || in_whole(path) || is_coming(path) || owned_by_staying(path)) return;
    if (disk->type == FileType::Directory && !is_emptied(path, "")) return;
    removed_.insert(path);
    move(MoveKind::Remove, path);
  }

  /// Is everything in a directory on its way out? If not, and because of files of nobody's, that is said.
  bool is_emptied(const std::string& path, const std::string& name) {
    bool emptied = true, foreign = false;
    for (const std::string& child : root_.list(path)) {
      const std::string below = os::join_path(path, child);
      if (removed_.contains(below)) continue;
      emptied = false;
      // what packages still bring, or what was told of one level below, needs no word
      foreign =
          foreign || !(is_coming(below) || told_.contains(below) || is_own_directory(below) || owned_by_staying(below));
    }
    if (!emptied) told_.insert(path);
    if (foreign && !name.empty()) notice(Notice::Kind::DirectoryStays, path, name);
    return emptied;
  }

  bool is_coming(std::string_view path) const { return sides_.coming_at(path) != nullptr; }
  bool owned_by_staying(std::string_view path) {
    return sides_.staying_owner_of(path, sides_.old_at(path)).has_value();
  }

  bool below_new_file(std::string_view path) const {
    for (auto parent = os::parent_of(path); !parent.empty(); parent = os::parent_of(parent))
      if (const auto* const coming = sides_.coming_at(parent);
          coming != nullptr && coming->type() != EntryType::Directory)
        return true;
    return false;
  }

  /// New things first, then removals, so that nothing is missing in between; but what goes from below a path where a
  /// file will be, be it a directory now or a link to one, goes before everything.
  void order_moves() {
    const auto rank = [&](const PlannedMove& one) {
      if (one.kind == MoveKind::Remove) return below_new_file(one.path) ? 0 : 3;
      return one.kind == MoveKind::Attributes ? 2 : 1;
    };
    const auto by_rank = [&](const PlannedMove& a, const PlannedMove& b) { return rank(a) < rank(b); };
    if (!std::is_sorted(change_.moves.begin(), change_.moves.end(), by_rank))  // they are large
      std::stable_sort(change_.moves.begin(), change_.moves.end(), by_rank);
    for (const std::string& path : becomes_file_)
      for (const std::string& child : root_.list(path))
        if (!removed_.contains(os::join_path(path, child)))
          refuse("a directory that becomes a file still contains files no package owns", os::join_path(path, child),
                 "move them away, then run the command again");
  }

  os::FileReader& root_;
  os::Looker looker_{root_};
  StagingHomes homes_;
  const std::vector<state::StatePackage>& leaving_;
  const std::vector<Entering>& entering_;
  const TreeOptions& options_;
  Sides sides_;
  ConfigRules rules_;
  std::map<std::string, const Old*, std::less<>> follows_;  // by path of the new default
  std::set<const Old*> followed_;                           // those that it holds
  std::set<std::string> left_behind_;  // where edited configuration stood that goes with its default, or for a choice
  std::set<std::string> removed_, becomes_file_, told_, aside_directories_;
  std::map<std::string, Whole, std::less<>> whole_;
  std::string asked_of_;  // what in_whole() was asked last, by directory and the size of whole_, and its answer
  std::size_t asked_at_ = SIZE_MAX;
  const Whole* answer_ = nullptr;
  const std::optional<FileInfo> nowhere_{};
  Inheritances inheritances_{root_, homes_.directories()};
  TreeChange change_;
};

}  // namespace

TreeChange plan_tree(os::FileReader& root, const state::State& state, const std::vector<state::StatePackage>& leaving,
                     const std::vector<Entering>& entering, const TreeOptions& options) {
  const state::State::ReadTransaction still(state);
  TreeChange change = Planner(root, state, leaving, entering, options).run();
  if (options.supply) options.supply(change);
  require_feasible(root, change, options.workers);
  return change;
}

}  // namespace hambrel::txn
