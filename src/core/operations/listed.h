// Packages by condition, in any order, and what they take on the disk.
#pragma once

#include <map>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "operations/root.h"
#include "plan/freed.h"

namespace hambrel::operations {

class Conditions {
 public:
  /// Throws Error{Usage} for a word that is none: installed available upgradable wanted pulled-in unneeded held stray
  /// broken name:GLOB repo:NAME channel:NAME arch:NAME category:GLOB license:ID group:NAME size>SIZE size<SIZE, each
  /// also after "not:".
  Conditions(const Universe& universe, const std::vector<std::string>& words);

  /// What meets them, in the order of lists: installed ones, and where they are asked for too, the newest of each name
  /// that is on offer.
  std::vector<PackageId> listed() const;
  bool about_size() const { return about_size_; }
  bool about_holds() const { return about_holds_; }

 private:
  enum class Kind {
    Installed,
    Available,
    Upgradable,
    Wanted,
    PulledIn,
    Unneeded,
    Held,
    Stray,
    Broken,
    Name,
    Repo,
    Channel,
    Arch,
    Category,
    License,
    Group,
    Larger,
    Smaller
  };
  struct Condition {
    Kind kind = Kind::Installed;
    std::string value{};
    bool negated = false;
    ByteCount bytes = 0;  // of size> and size<
  };
  static Condition parse(std::string_view text);
  std::vector<NameId> names() const;
  bool lists(PackageId id) const;
  void add_of(NameId name, std::vector<PackageId>& ids) const;
  bool holds(const Condition& condition, PackageId id) const;
  bool has_offer(const Condition& condition, PackageId id) const;

  const Universe& universe_;
  std::vector<Condition> all_;
  bool is_member(const std::string& group, PackageId id) const;
  std::set<PackageId> unneeded_, broken_;
  bool everything_ = false, about_size_ = false, about_holds_ = false;
};

enum class Order { Name, Size, Time };
void sort_by(const Universe& universe, Order order, std::vector<PackageId>& ids);

/// What removing packages would really free, for each and for all of them together.
class DiskUse {
 public:
  explicit DiskUse(Root& root);
  struct Of {
    plan::Freed freed;
    ByteCount cached = 0;
    std::vector<std::string> others, needed_by;  // names
    bool alone() const { return needed_by.empty(); }
  };
  Of of(const std::vector<PackageId>& ids) const;

 private:
  const Universe& universe_;
  std::vector<PackageId> idle_;              // what nothing needs already
  std::map<std::string, ByteCount> cached_;  // by name
};

}  // namespace hambrel::operations
