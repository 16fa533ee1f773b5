// Where packages are built: a directory of the host with sources that were fetched, build roots that were made, and one
// directory for each build that is under way.
//
//   sources/SHA256        as they were fetched; whoever uses one checks it again
//   roots/KEY/            a build root; its name tells what is installed in it, and nothing changes it any more
//   builds/NAME.N/        of one build: private/lock, work/ (what its steps see as /run/build), kept where it was to be
//   logs/NAME-VERSION.log what the last build of it printed
//   recipes/DIGEST/       folders of recipes of repositories; read/REPOSITORY/NAME/ what was read of one
//
// Invariants: what lies below builds/ belongs to whoever holds its lock, or was left by a build that was interrupted
// and is cleared away by the next one. Nothing is removed that a build under way uses.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "operations/root.h"
#include "os/lock.h"

namespace hambrel::build {

class Workshop {
 public:
  /// Of whoever builds for this root: the directory of [build] in its settings; else below its cache; else, for whoever
  /// may not write there, below his own. It is made.
  explicit Workshop(operations::Root& root);
  /// The same without making anything; nothing where nobody has built yet.
  static std::unique_ptr<Workshop> find(operations::Root& root);

  os::FileSystem& files() { return *files_; }
  /// On the host, absolute.
  const std::string& path() const { return path_; }
  std::string on_host(std::string_view below) const { return path_ + "/" + std::string(below); }

  static std::string source_file(const Digest& digest) { return "sources/" + digest.hex(); }
  static std::string log_file(const std::string& name) { return "logs/" + name + ".log"; }

  /// While it lives, no build begins and nothing is cleared away.
  [[nodiscard]] std::unique_ptr<os::Lock> close();

 private:
  explicit Workshop(std::unique_ptr<os::FileSystem> files);

  std::unique_ptr<os::FileSystem> files_;
  std::string path_;
};

/// One build under way: a directory of its own, which goes with this object unless it is kept.
class Bench {
 public:
  Bench(Workshop& workshop, const std::string& name);
  ~Bench();
  Bench(const Bench&) = delete;
  Bench& operator=(const Bench&) = delete;

  /// Below the workshop.
  const std::string& directory() const { return directory_; }
  std::string work() const { return directory_ + "/work"; }
  /// From now on it stays, with where its build root is.
  void keep(const std::string& root);
  /// Removes it now, and tells what can't be removed.
  void clear();

 private:
  Workshop& workshop_;
  std::string directory_;
  std::unique_ptr<os::Lock> lock_;
  bool kept_ = false;
};

/// A build that was kept, held while this lives.
struct KeptBuild {
  std::string directory;  // below the workshop
  std::string root;       // of its build root, on the host
  std::unique_ptr<os::Lock> lock;
};
/// The last one of a name; nothing where none was kept.
std::optional<KeptBuild> kept_build(Workshop& workshop, const std::string& name);

/// What lies in a workshop and nobody uses now.
struct LeftByBuilds {
  struct Item {
    enum class Kind { Build, Root, Source, Recipe, Made, Log };
    Kind kind = Kind::Build;
    std::string path;  // below the workshop
    ByteCount bytes = 0;
    bool interrupted = false;  // a build that ended before it could clear away
  };
  std::vector<Item> items;
  bool busy = false;  // a build is under way: roots and sources are in use
};
LeftByBuilds left_in(Workshop& workshop);
/// Removes these. Returns the bytes that are free then.
ByteCount clear(Workshop& workshop, const std::vector<LeftByBuilds::Item>& items);

/// A tree that somebody else may have made unwritable, with all that is in it.
void remove_whole(os::FileSystem& files, const std::string& path);

}  // namespace hambrel::build
