// What a transaction does to the files of the root, worked out before anything is touched.
//
// Input: the file lists of the packages that leave and that enter, what the other packages own, and the disk.
// Output: what must be staged, which moves put it into place, and what the administrator should know.
//
// Rules, each with a test:
//   C1 a path may belong to one package only, directories and files that are alike in everything aside: two packages
//      that bring it are refused, by name
//   C2 a file that did not change between the old and the new version is not touched
//   C3 edited configuration is never replaced or removed unless that was chosen: see configuration.h
//   C4 a file that no package owns goes to the attic when a package brings its path
//   C5 a directory goes only when nothing is left in it; what stands in the way of a directory or file by being of the
//      other kind, and is not ours, is refused by name
//   C6 a whole new directory is placed by one rename
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/rarely.h"
#include "model/file_list.h"
#include "os/file_system.h"
#include "plan/plan.h"
#include "state/state.h"
#include "txn/configuration.h"
#include "txn/kept.h"
#include "txn/look_ahead.h"
#include "txn/staging_homes.h"

namespace hambrel::txn {

struct Entering {
  Package package;
  FileList files{};
  const Kept* kept = nullptr;  // its content comes from there, as far as it lies there; else from the package file
  bool from_shelf = false;     // its configuration is there already, as far as it is to be there
  bool with_edits = false;     // configuration that went away comes back as it stood, not as the package brings it
};

/// What a thing must be: mostly as a list of files says, which is not copied for it.
class PutEntry {
 public:
  PutEntry(FileEntry entry) : own_(std::move(entry)) {}  // NOLINT: converts
  /// `list` has to be there as long as this is.
  PutEntry(const FileList& list, std::size_t number) : list_(&list), number_(static_cast<std::uint32_t>(number)) {}

  std::string_view path() const { return own_ ? own_->path : list_->path(number_); }
  std::string_view target() const { return own_ ? own_->target : list_->target(number_); }
  EntryType type() const { return own_ ? own_->type : list_->type(number_); }
  std::uint32_t mode() const { return own_ ? own_->mode : list_->facts(number_).mode; }
  std::uint64_t size() const { return own_ ? own_->size : list_->content_size(number_); }
  Digest digest() const { return own_ ? own_->digest : list_->digest(number_); }
  std::string_view group() const { return own_ ? own_->group : list_->group(number_); }
  bool config() const { return own_ ? own_->config : list_->config(number_); }
  FileEntry whole() const { return own_ ? *own_ : list_->entry(number_); }

 private:
  Rarely<FileEntry> own_;
  const FileList* list_ = nullptr;
  std::uint32_t number_ = 0;
};

/// What few things have that are made in the stage.
struct PutRest {
  std::string other_path{};              // its path in its package, if it is not that of the entry
  SharedText home{};                     // where it is staged, if that is not where the state is; see staging_homes.h
  std::optional<std::uint32_t> group{};  // given by a set-group-id directory to what names no group of its own
  std::string default_acl{};             // of the directory that it comes into
  std::string kept{};                    // where the content lies in the attic; empty: in the package file
  std::optional<std::string> content{};  // or this is it
  std::string same{};                    // where in the root a file has this content now: it is copied
};

/// A thing to be made in the stage. There are as many as files: what few of them have lies apart.
class Put {
 public:
  static constexpr std::size_t npos = SIZE_MAX;

  Put(PutEntry what, std::size_t of_package, std::string_view other_path, const SharedText& home)
      : entry(std::move(what)), package(of_package) {
    if (!other_path.empty()) rest_.own().other_path = other_path;
    if (home != std::string_view(kHome)) rest_.own().home = home;
  }

  PutEntry entry;       // what it must be; its path is where it goes
  std::size_t package;  // index into the entering ones, npos for a directory that no package brings

  const PutRest& rest() const {
    static const PutRest none;
    return rest_ ? *rest_ : none;
  }
  /// To be changed.
  PutRest& own_rest() { return rest_.own(); }
  /// Where it is staged.
  const SharedText& home() const {
    static const SharedText usual(kHome);
    return rest().home.empty() ? usual : rest().home;
  }
  std::string_view path_in_package() const {
    return rest().other_path.empty() ? entry.path() : std::string_view(rest().other_path);
  }
  /// Does its content come from elsewhere than the package file?
  bool is_here() const { return !rest().kept.empty() || !rest().same.empty() || rest().content; }
  /// Does its content come out of the package file?
  bool is_unpacked() const { return entry.type() == EntryType::File && !is_here(); }

 private:
  Rarely<PutRest> rest_;
};

/// A move to be; inode numbers are filled in when the thing is staged.
struct PlannedMove {
  state::MoveKind kind;
  SharedText path, home;
  Rarely<FileEntry> after{};  // for Attributes
};

/// A configuration file whose pristine content is to be kept.
struct Pristine {
  std::size_t package;  // index into the entering ones
  FileEntry entry;      // with its path in that package
  std::string kept{};   // where the content lies in the attic; empty: in the package file
};

/// What is fetched meanwhile, into which directory.
struct Fetched {
  ByteCount bytes = 0;
  std::string into{};
};

struct TreeChange {
  std::shared_ptr<const std::vector<FileList>> lists{};  // of what enters: puts point into them
  std::vector<Put> puts;                                 // by path, directories before what is in them
  std::vector<PlannedMove> moves;                        // in the order in which they are to be done
  std::vector<Pristine> pristine;
  std::vector<plan::Notice> notices;
  std::vector<plan::ConfigStep> configs;
  std::vector<Conflict> conflicts;  // decided by a choice, or without one left waiting
  ByteCount staged_bytes = 0;
  Fetched fetched{};
  std::map<std::string, std::uint32_t> users{}, groups{};  // accounts that are there then, made by this change or not
};

/// What is put at a path, or nullptr.
const Put* find_put(const TreeChange& change, std::string_view path);

/// By row of what leaves, numbers in its list: only these of its files are looked at. The others, which the package
/// that enters in its place has just so and which nobody else in the change has, are in neither list and stay as they
/// are.
using FilesToExamine = std::map<std::int64_t, std::vector<std::size_t>>;

struct TreeOptions {
  unsigned workers = 1;  // threads that look at the disk
  FilesToExamine files_to_examine{};
  Choices choices{};
  std::set<std::int64_t> purge{};  // rows of what leaves whose edited configuration goes, too
  std::set<std::int64_t> gone{};   // rows of those that left long ago: only what they left behind is meant
  std::set<std::string> leave{};   // edited configuration at these paths goes, as it was not there then
  /// Says where content comes from that is here already, and what is fetched; room is asked for afterwards.
  std::function<void(TreeChange&)> supply{};
  std::shared_ptr<LookAhead> ahead{};  // what was looked at already, if anything
  bool asides = true;                  // false: what waits to be settled is the caller's to move
  std::vector<std::string> made{};     // by programs of what leaves, ascending: it goes, too
};

/// What leaves and is marked as shelved goes to the shelf: its configuration stays.
/// Throws Error{Refused} by name for C1 and C5, and for what require_feasible() finds.
[[nodiscard]] TreeChange plan_tree(os::FileReader& root, const state::State& state,
                                   const std::vector<state::StatePackage>& leaving,
                                   const std::vector<Entering>& entering, const TreeOptions& options = {});

/// Throws Error{Refused} where a link is on the way to `path` that others than root can change.
void require_way(os::FileReader& root, std::string_view path);

/// Is there room for what is staged, on each file system, and can every move be done? Throws Error that names the path,
/// and both amounts or what is in the way: a mount point, an immutable or append-only file or directory.
void require_feasible(os::FileReader& root, const TreeChange& change, unsigned workers = 1);

}  // namespace hambrel::txn
