// Everything that could be installed, and what is: the input of looking, solving and planning.
//
// Invariants: every (name, version, arch) stands once, whether it is installed, offered, or both; PackageIds are dense,
// in the order of (name, version descending, arch); the indexes below list ids in that order. Built once, then
// read-only.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "base/digest.h"
#include "model/package.h"

namespace hambrel {

enum class PackageId : std::uint32_t {};
inline std::size_t index_of(PackageId id) { return static_cast<std::size_t>(id); }

/// A place a package version can be had from.
struct Offer {
  std::string repository;  // its name; empty for a local file
  std::string channel;
  std::string local_path;                          // the package file on the host, for a local file
  std::uint32_t rank = 50;                         // of the repository: smaller is preferred
  bool followed = true;                            // its channel is one this root follows
  ByteCount size = 0;                              // of the package file
  Digest digest;                                   // of the package file
  std::uint64_t table_offset = 0, table_size = 0;  // of its table of contents
  Digest table_digest;

  /// "skerry-harbour/stable", or "local file".
  std::string title() const;
};

enum class Reason { Wanted, PulledIn };
std::string_view text_of(Reason reason);  // "wanted", "pulled-in"
std::optional<Reason> reason_from(std::string_view text);

struct Installed {
  std::int64_t row = 0;  // of the state's packages table
  Reason reason = Reason::Wanted;
  std::string origin;  // as Offer::title() was then
  std::int64_t time = 0;
};

struct Candidate {
  Package package;
  std::vector<Offer> offers;  // best first: followed, by rank, then by repository name
  std::optional<Installed> installed;

  bool offered() const;  // by something this root follows
};

class Universe {
 public:
  /// Candidates in any order, the same package version as often as it was found.
  explicit Universe(std::vector<Candidate> candidates);

  std::size_t size() const { return candidates_.size(); }
  const Candidate& operator[](PackageId id) const { return candidates_[index_of(id)]; }
  const Package& package(PackageId id) const { return (*this)[id].package; }
  std::vector<PackageId> all() const;

  /// The versions of one name, newest first; empty for an unknown name.
  const std::vector<PackageId>& versions_of(std::string_view name) const;
  /// Everything called or providing a name, in the order of ids.
  const std::vector<PackageId>& providers_of(std::string_view name) const;
  std::vector<PackageId> matching(const Constraint& constraint) const;
  std::vector<PackageId> matching(const Relation& relation) const;
  /// The installed version of a name, if any.
  std::optional<PackageId> installed_of(std::string_view name) const;
  std::vector<PackageId> installed() const;
  /// Names that packages are called, sorted.
  std::vector<std::string> names() const;
  /// Installed names in which a followed repository offers something newer than what is installed -> the newest of it.
  std::optional<PackageId> newer_offer(PackageId installed) const;

 private:
  std::vector<Candidate> candidates_;
  std::map<std::string, std::vector<PackageId>, std::less<>> by_name_, by_provided_;
};

}  // namespace hambrel
