// Staging: everything new is made below the transaction's directories, whole and with all its metadata.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "txn/environment.h"
#include "txn/labels.h"
#include "txn/owners.h"
#include "txn/transaction.h"

namespace hambrel::txn {

class Stager {
 public:
  /// `directory`: of the transaction, in each of its homes.
  Stager(const Environment& environment, std::string directory) : env_(environment), directory_(std::move(directory)) {}

  /// A fresh directory of a transaction in a home, which is made, or must be as we make it: what lies in it becomes
  /// part of the system. Throws Error{Refused} where others may write to it.
  static std::string make_stage(const Environment& environment, const std::string& home, const std::string& directory);
  /// Returns the moves, with the inode numbers that recovery will ask for.
  std::vector<state::Move> stage(const TreeChange& change, const std::vector<Source>& sources);
  /// What configuration files are before anybody edits them, each content once, under its digest. stage() does it, too.
  void keep_pristine(const TreeChange& change, const std::vector<Source>& sources);
  /// Removes what it has made.
  void drop();

 private:
  /// Where in the transaction's directory each thing is staged.
  class Places {
   public:
    explicit Places(const TreeChange& change);
    std::string of(const Put& put) const;                                    // one of the change's
    std::string of(std::string_view path) const;                             // what is put there
    std::string staged(const Put& put, const std::string& directory) const;  // relative to the root

   private:
    const TreeChange& change_;
    struct Place {
      std::uint32_t top, number;  // the put that is moved, with all that lies below it; its number in its home
    };
    std::vector<Place> places_;  // by put
  };
  class StageDirectories;
  class Unpacking;
  /// What the root says that a package does not: numbers of owners, security labels.
  struct Given {
    Owners owners;
    Labels labels;
  };
  void make_stages(const TreeChange& change);
  void make_directories(const TreeChange& change, const Places& places, StageDirectories& directories);
  void unpack(const TreeChange& change, const std::vector<Source>& sources, const Given& given, const Places& places,
              StageDirectories& directories);
  void stage_link(const Put& put, const Places& places);
  void stage_kept(const TreeChange& change, const std::function<void(const Put&)>& stage_one);
  void stage_kept(const Put& put, const std::string& at, const os::Metadata& metadata);
  void complete(const TreeChange& change, const Places& places,
                const std::function<os::Metadata(const Put&)>& metadata_of_put);
  os::Metadata metadata_of(const Put& put, const Given& given, const std::string& package) const;
  std::vector<state::Move> resolve_moves(const TreeChange& change, const Places& places);
  void resolve(state::Move& move, const PlannedMove& planned, const Owners& owners, os::Looker& in_place,
               os::Looker& in_stage) const;

  const Environment& env_;
  const std::string directory_;
};

}  // namespace hambrel::txn
