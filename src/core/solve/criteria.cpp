#include "solve/criteria.h"

#include <algorithm>
#include <set>
#include <unordered_map>
#include <utility>

#include "solve/outlook.h"

namespace hambrel::solve {

std::string_view text_of(Level level) {
  switch (level) {
    case Level::StraysDropped: return "strays dropped";
    case Level::NotNewest: return "not at the newest version";
    case Level::Removed: return "removed";
    case Level::Downgraded: return "downgraded";
    case Level::AskedLag: return "versions behind of what was asked for";
    case Level::Touched: return "others changed";
    case Level::RecommendedMissing: return "recommendations unmet";
    case Level::VersionLag: return "versions behind";
    case Level::RepositoryRank: return "repository rank";
    case Level::NewPackages: return "new packages";
    case Level::LaterAlternatives: return "later alternatives";
    case Level::Download: return "bytes to fetch";
  }
  return "";
}

const std::vector<Level>& levels_for(const Request& request) {
  static const std::vector<Level> change{
      Level::Removed,    Level::Downgraded,     Level::AskedLag,    Level::Touched,           Level::RecommendedMissing,
      Level::VersionLag, Level::RepositoryRank, Level::NewPackages, Level::LaterAlternatives, Level::Download};
  static const std::vector<Level> upgrade{Level::Downgraded,
                                          Level::NotNewest,
                                          Level::StraysDropped,
                                          Level::Removed,
                                          Level::Touched,
                                          Level::VersionLag,
                                          Level::RecommendedMissing,
                                          Level::NewPackages,
                                          Level::RepositoryRank,
                                          Level::LaterAlternatives,
                                          Level::Download};
  return request.is_upgrade() || request.upgrade_all ? upgrade : change;
}

class Softs::Maker {
 public:
  explicit Maker(Encoding& encoding)
      : encoding_(encoding), u_(encoding.universe()), request_(encoding.request()), outlook_(encoding.outlook()) {
    const auto& installed = u_.installed();
    for (std::size_t i = 0; i < installed.size(); ++i)
      if (encoding_.lit(installed[i]) != Encoding::truth()) installed_.push_back({installed[i], i});
    for (const PackageId id : encoding_.cone())
      if (!u_.is_installed(id)) new_.push_back(id);
  }

  std::vector<Soft> of(Level level) {
    switch (level) {
      case Level::StraysDropped: strays_dropped(); break;
      case Level::NotNewest: not_newest(); break;
      case Level::Removed: removed(); break;
      case Level::Downgraded: downgraded(); break;
      case Level::AskedLag: asked_lag(); break;
      case Level::Touched: touched(); break;
      case Level::RecommendedMissing: recommended_missing(); break;
      case Level::VersionLag: version_lag(); break;
      case Level::RepositoryRank: repository_rank(); break;
      case Level::NewPackages: new_packages(); break;
      case Level::LaterAlternatives: later_alternatives(); break;
      case Level::Download: download(); break;
    }
    return std::exchange(softs_, {});
  }

 private:
  void soft(Lit lit, std::uint64_t weight = 1) {
    if (lit != Encoding::truth()) softs_.push_back({lit, weight});
  }
  /// An installed package, and its place in Universe::installed().
  struct Open {
    PackageId id;
    std::size_t place;
  };
  /// Installed packages that this encoding leaves open.
  template <typename Function>
  void each_open_installed(Function f) {
    for (const Open& one : installed_) f(one.id);
  }
  std::uint32_t lag(PackageId id) const { return outlook_ != nullptr ? outlook_->lag(id) : encoding_.lag(id); }
  // what was worked out beforehand, or is now, until the next of these is asked for
  Ids replacers(const Open& one) {
    if (outlook_ != nullptr) return outlook_->replacers(one.place);
    return found_ = encoding_.replacers(one.id);
  }
  Ids newest_offers(const Open& one) {
    if (outlook_ != nullptr) return outlook_->newest_offers(one.place);
    return found_ = u_.newest_offers(one.id);
  }
  Ids older(const Open& one) {
    if (outlook_ != nullptr) return outlook_->older(one.place);
    return found_ = older_versions(u_, one.id);
  }
  /// Packages that may come: the only ones that new-comers' levels are about.
  template <typename Function>
  void each_new(Function f) {
    std::erase_if(new_, [&](PackageId id) { return encoding_.engine().never(encoding_.lit(id)); });
    for (const PackageId id : new_) f(id);
  }
  std::vector<Lit> lits(Ids ids) const {
    std::vector<Lit> result;
    for (const PackageId id : ids) result.push_back(encoding_.lit(id));
    return result;
  }
  Lit stays(const Open& one) {  // in some version, or as what replaces it
    if (u_.parallel(one.id) > 1) return encoding_.lit(one.id);
    std::vector<Lit> all = lits(u_.slot(one.id));
    for (const PackageId other : replacers(one)) all.push_back(encoding_.lit(other));
    return encoding_.one_of(std::move(all));
  }

  void strays_dropped() {
    for (const Open& one : installed_)
      if (encoding_.may_be_dropped(one.id)) soft(stays(one));
  }

  void removed() {
    for (const Open& one : installed_) {
      if (encoding_.is_to_go(one.id) || encoding_.may_be_dropped(one.id)) continue;
      if (!encoding_.engine().always(encoding_.lit(one.id))) soft(stays(one));
    }
  }

  void downgraded() {
    for (const Open& one : installed_) {
      if (asked(one.id) || u_.parallel(one.id) > 1) continue;
      for (const PackageId other : older(one)) soft(~encoding_.lit(other));
    }
  }

  bool asked(PackageId installed) {
    if (asked_.empty())
      for (const Target& target : request_.install)
        for (const PackageId id : target.candidates) asked_[u_.name_id(id)].push_back(id);
    const auto found = asked_.find(u_.name_id(installed));
    return found != asked_.end() && std::any_of(found->second.begin(), found->second.end(),
                                                [&](PackageId id) { return u_.same_slot(id, installed); });
  }

  void not_newest() {
    for (const Open& one : installed_) {
      if (!request_.upgrades(u_, one.id) || encoding_.stays_as_it_is(one.id)) continue;
      if (const Ids instead = replacers(one); !instead.empty()) {
        soft(encoding_.one_of(lits(instead)));
      } else if (const Ids newest = newest_offers(one); !newest.empty()) {
        soft(encoding_.one_of(lits(newest)));
      }
    }
  }

  /// Steps behind the best candidate of the same name, for each target and for what is to be upgraded besides.
  void asked_lag() {
    for (const Target& target : request_.install)
      for (const PackageId id : target.candidates) {
        std::set<std::string_view> better;
        for (const PackageId other : target.candidates)
          if (u_.same_slot(other, id) && order_versions(u_.version(other), u_.version(id)) > 0)
            better.insert(u_.version(other));
        const auto files = std::count_if(target.candidates.begin(), target.candidates.end(),
                                         [&](PackageId other) { return encoding_.is_better_file(other, id); });
        soft(~encoding_.lit(id), better.size() + static_cast<std::size_t>(files));
      }
    each_open_installed([&](PackageId id) {
      if (!request_.means(request_.upgrade, u_, id)) return;
      for (const PackageId other : encoding_.choices(id)) soft(~encoding_.lit(other), lag(other));
    });
  }

  void touched() {
    each_open_installed([&](PackageId id) {
      if (encoding_.slot_asked(id) || request_.upgrades(u_, id)) return;
      soft(encoding_.lit(id));
    });
  }

  std::vector<Lit> providers(RelationId relation, PackageId asking) const {
    std::vector<Lit> result;
    for (const PackageId other : u_.matching(relation))
      if (u_.may_serve(other, asking)) result.push_back(encoding_.lit(other));
    return result;
  }

  void recommended_missing() {
    if (!request_.recommended) return;
    std::vector<Recommendation> found;
    if (outlook_ == nullptr) each_new([&](PackageId id) { add_recommendations(encoding_, id, found); });
    for (const auto& [by, relation] : outlook_ != nullptr ? outlook_->recommendations() : found)
      if (const Lit lit = encoding_.lit(by); !encoding_.engine().never(lit))
        soft(encoding_.one_of_unless(lit, providers(relation, by)));
  }

  void version_lag() {
    each_new([&](PackageId id) { soft(~encoding_.lit(id), lag(id)); });
    each_open_installed([&](PackageId id) {
      if (request_.upgrades(u_, id)) soft(~encoding_.lit(id), lag(id));
    });
  }

  std::uint32_t best_rank(PackageId id) const {
    std::uint32_t best = UINT32_MAX;
    for (std::size_t i = 0, count = u_.offer_count(id); i < count; ++i)
      if (const auto offer = u_.offer(id, i); offer.enabled) best = std::min(best, offer.rank);
    return best;
  }

  void repository_rank() {
    std::set<std::uint32_t> ranks;  // of enabled repositories; local files count as the best one
    for (const View::Repository& one : u_.view().repositories)
      if (one.enabled) ranks.insert(one.rank);
    if (ranks.size() < 2) return;
    each_new([&](PackageId id) {
      const auto place = std::distance(ranks.begin(), ranks.lower_bound(best_rank(id)));
      soft(~encoding_.lit(id), static_cast<std::uint64_t>(place));
    });
  }

  void new_packages() {
    each_new([&](PackageId id) {
      if (u_.installed_in_slot(id).empty()) soft(~encoding_.lit(id));
    });
  }

  /// Of "a | b" the first is preferred: each alternative that is passed over costs one.
  void later_alternatives() {
    each_new([&](PackageId id) {
      for (const RelationId relation : u_.relations(id, RelationList::Requires)) {
        const std::size_t count = u_.constraint_count(relation);
        std::vector<Lit> so_far;
        for (std::size_t i = 0; i + 1 < count; ++i) {
          for (const PackageId other : u_.matching(relation, i))
            if (u_.may_serve(other, id)) so_far.push_back(encoding_.lit(other));
          soft(encoding_.one_of_unless(encoding_.lit(id), so_far));
        }
      }
    });
  }

  void download() {
    each_new([&](PackageId id) {
      std::uint32_t rank = UINT32_MAX;
      ByteCount size = 0;
      for (std::size_t i = 0, count = u_.offer_count(id); i < count; ++i) {
        const auto offer = u_.offer(id, i);
        if (!offer.enabled || offer.rank >= rank) continue;
        rank = offer.rank;
        size = offer.repository.empty() ? 0 : offer.size;
      }
      soft(~encoding_.lit(id), size);
    });
  }

  Encoding& encoding_;
  const Universe& u_;
  const Request& request_;
  const Outlook* const outlook_;  // or null
  std::vector<PackageId> found_;
  std::vector<Open> installed_;  // that are open
  std::vector<PackageId> new_;   // the same of what may come
  std::vector<Soft> softs_;
  std::unordered_map<NameId, std::vector<PackageId>> asked_;  // what is to be installed, by name
};

Softs::Softs(Encoding& encoding) : maker_(std::make_unique<Maker>(encoding)) {}
Softs::~Softs() = default;
std::vector<Soft> Softs::of(Level level) { return maker_->of(level); }

}  // namespace hambrel::solve
