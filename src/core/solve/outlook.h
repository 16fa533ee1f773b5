// What the levels ask of the packages of a large encoding and no clause changes: worked out by one thread while another
// makes the clauses, and once for all encodings in which the same may be chosen.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "solve/encoding.h"

namespace hambrel::solve {

/// A package that may come, and something it recommends that somebody may meet and that was not decided before.
struct Recommendation {
  PackageId by;
  RelationId relation;
};

/// Versions in the slot of an installed package that are older than it.
std::vector<PackageId> older_versions(const Universe& universe, PackageId installed);
/// Appends what a package that may come recommends.
void add_recommendations(const Encoding& encoding, PackageId id, std::vector<Recommendation>& all);

class Outlook {
 public:
  /// Of an encoding whose cone is known. It need not outlive this.
  explicit Outlook(const Encoding& encoding);

  /// As Encoding::lag, of a package of the cone.
  std::uint32_t lag(PackageId id) const { return lags_[index_of(id)]; }
  // of an installed package, by its place in Universe::installed()
  Ids older(std::size_t installed) const { return older_.of(installed); }
  Ids replacers(std::size_t installed) const { return replacers_.of(installed); }
  Ids newest_offers(std::size_t installed) const { return newest_offers_.of(installed); }  // where anything is upgraded
  /// In the order of the cone.
  std::span<const Recommendation> recommendations() const { return recommendations_; }

 private:
  /// Lists by number, one behind the other.
  class Lists {
   public:
    void add(Ids ids) {
      ids_.insert(ids_.end(), ids.begin(), ids.end());
      ends_.push_back(static_cast<std::uint32_t>(ids_.size()));
    }
    Ids of(std::size_t i) const {
      const std::size_t start = i == 0 ? 0 : ends_[i - 1];
      return Ids(ids_).subspan(start, ends_[i] - start);
    }

   private:
    std::vector<PackageId> ids_;
    std::vector<std::uint32_t> ends_;
  };

  std::vector<std::uint32_t> lags_;  // by package
  Lists older_, replacers_, newest_offers_;
  std::vector<Recommendation> recommendations_;
};

}  // namespace hambrel::solve
