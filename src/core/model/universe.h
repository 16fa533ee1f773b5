// Everything that could be installed, and what is: the input of looking, solving and planning.
//
// A universe is a base layer and an overlay upon it (layer.h) seen through the settings of a root. Packages are known
// by number; a Candidate, with its texts, is made when it is first asked for, so that a plan costs what its own
// packages cost and not what the repositories hold.
//
// Invariants: every file of a (name, version, arch) is visible once, whether it is installed, offered, or both; files
// with another digest are other packages, as their relations may differ. Lists of packages come in the order of (name,
// version descending, arch). Visible is what is installed, or offered by an
// enabled repository for an architecture of this root. Read-only once made: what is worked out when it is first asked
// for is the same whoever asks, and several threads may ask.
#pragma once

#include <atomic>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <ranges>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "model/layer.h"
#include "model/list_cache.h"
#include "model/offer.h"
#include "model/package.h"

namespace hambrel {

inline std::size_t index_of(PackageId id) { return static_cast<std::size_t>(id); }

struct Candidate {
  Package package;
  std::vector<Offer> offers;     // of enabled repositories, best first: followed, by rank, then by repository name
  std::vector<Offer> elsewhere;  // of repositories that are not enabled
  std::optional<Installed> installed;

  bool offered() const;  // by something this root follows
};

/// What the settings of a root say about layers.
struct View {
  struct Repository {
    std::string name;
    bool enabled = true;
    std::uint32_t rank = 50;
    std::vector<std::string> channels;  // followed
  };
  std::vector<Repository> repositories;                     // packages of others are not seen
  std::vector<std::string> architectures;                   // the root's own first; empty: everything fits
  std::map<std::string, std::string, std::less<>> follows;  // package name -> channel, instead of the repository's
  std::int64_t now = 0;                                     // seconds: holds that ended before do not count; 0: all do
  bool installed_is_sound = false;  // an earlier run checked that what is installed meets all its relations
  std::set<std::string, std::less<>> protects{};  // names of packages that are treated as essential
  std::vector<std::string> refused_licenses{};    // globs of ids: what can't do without them is offered by nobody
};

/// Compiles candidates with an installed state or a local file into an overlay. A candidate that the base holds word
/// for word (the same package file) is only marked as installed there.
std::string compile_overlay(const Layer& base, const std::vector<Candidate>& candidates, std::string_view key);

class Universe {
 public:
  Universe(std::shared_ptr<const Layer> base, std::shared_ptr<const Layer> overlay, View view);
  /// The same layers seen through other settings. Numbers mean the same packages in both.
  Universe(const Universe& other, View view) : Universe(other.base_, other.overlay_, std::move(view)) {}
  /// For few candidates, in any order, the same package version as often as it was found; compiles them.
  explicit Universe(const std::vector<Candidate>& candidates, std::vector<std::string> architectures = {});
  Universe(const Universe&) = delete;
  Universe& operator=(const Universe&) = delete;

  // ---- with texts
  const Candidate& operator[](PackageId id) const;
  const Package& package(PackageId id) const { return (*this)[id].package; }
  std::vector<PackageId> all() const;
  /// The versions of one name, newest first; empty for an unknown name.
  Ids versions_of(std::string_view name) const;
  [[gnu::always_inline]] Ids versions_of(NameId name) const {
    const auto known = versions_.find(static_cast<std::size_t>(name));
    return known ? *known : find_versions(name);
  }
  /// Is some version of it there as several files?
  bool has_several_files(NameId name) const;
  /// Everything called or providing a name.
  std::vector<PackageId> providers_of(std::string_view name) const;
  std::vector<PackageId> matching(const Constraint& constraint) const;
  std::vector<PackageId> matching(const Relation& relation) const;
  /// The installed version of a name (of the root's own architecture first, the newest of several).
  std::optional<PackageId> installed_of(std::string_view name) const;
  const std::vector<PackageId>& installed() const { return installed_; }
  /// The name of installed()[i], without a look at the package itself.
  NameId installed_name(std::size_t i) const { return installed_names_[i]; }
  /// Calls f(PackageId, RelationId, bool replaces) for what installed packages say against packages that are called or
  /// provide a name.
  /// Was what is installed found to meet its own relations when the overlay was made?
  bool installed_is_sound() const { return view_.installed_is_sound; }
  template <typename Function>
  void each_against(NameId name, Function f) const {
    for (const image::AgainstRecord& one : overlay_->against_of(name))
      f(static_cast<PackageId>(require(one.package, size())),
        static_cast<RelationId>(require(one.relation, relations_)), one.replaces != 0);
  }
  /// Names that visible packages are called, sorted.
  std::vector<std::string> names() const;
  /// The newest version that followed channels offer and that is newer than the installed one: all files of it, as
  /// repositories may have built it each for themselves.
  std::vector<PackageId> newest_offers(PackageId installed) const;
  /// The one of the best rank.
  std::optional<PackageId> newer_offer(PackageId installed) const;
  /// Versions of a name that are not visible: of other architectures, of repositories that are not enabled.
  std::vector<PackageId> unseen_versions_of(std::string_view name) const;
  /// Does the architecture of a package fit this root?
  bool fits(PackageId id) const { return (flags(id) & kFits) != 0; }
  const View& view() const { return view_; }
  /// For whoever is going to look at most packages and relations: they are checked in one go, which is quicker.
  void expect_all() const {
    base_->check_relations();
    overlay_->check_relations();
  }
  const Layer& base() const { return *base_; }
  const Layer& overlay() const { return *overlay_; }

  // ---- by numbers; what the innermost loops ask for is put in line always, as g++ 12 by itself does in few of them

  std::size_t size() const { return base_size_ + overlay_->size(); }  // all ids are smaller, visible or not
  std::size_t name_count() const { return names_; }
  std::size_t relation_count() const { return relations_; }
  bool visible(PackageId id) const { return (flags(id) & kVisible) != 0; }
  bool is_installed(PackageId id) const { return (known_flags(id) & kInstalled) != 0; }
  /// Do the settings of the root refuse its license?
  bool is_license_refused(PackageId id) const;
  bool offered(PackageId id) const { return (flags(id) & kFollowed) != 0; }
  bool wanted(PackageId id) const { return (known_flags(id) & kWanted) != 0; }  // and installed
  bool held(PackageId id) const { return (known_flags(id) & kHeld) != 0; }      // and installed
  /// Is it installed, and essential by its own word or the settings'?
  bool is_protected(PackageId id) const { return !protected_.empty() && protected_.contains(id); }
  std::optional<NameId> find_name(std::string_view name) const;
  [[gnu::always_inline]] NameId name_id(PackageId id) const {
    return static_cast<NameId>(require(record(id).name, names_));
  }
  /// All names that begin so, called or provided.
  std::vector<NameId> names_with_prefix(std::string_view prefix) const;
  std::string_view name(NameId name) const;
  std::string_view name(PackageId id) const { return name(name_id(id)); }
  [[gnu::always_inline]] std::string_view version(PackageId id) const { return layer(id).text(record(id).version); }
  std::string_view architecture(PackageId id) const { return home_of(id)[record(id).arch].name; }
  std::string_view summary(PackageId id) const { return layer(id).text(record(id).summary); }
  std::string_view description(PackageId id) const {
    return layer(id).text(layer(id).details[record(id).details].description);
  }
  std::uint32_t parallel(PackageId id) const { return record(id).parallel; }
  ByteCount installed_size(PackageId id) const { return record(id).installed_size; }
  /// Grows in the order of lists: name, version descending, architecture.
  std::uint64_t place(PackageId id) const;
  /// Packages of one name take the place of each other within an architecture (what is independent belongs to the
  /// root's own): 0 for the root's own, then the further ones.
  std::uint32_t architecture_class(PackageId id) const { return home_of(id)[record(id).arch].group; }
  bool one_class() const { return view_.architectures.size() < 2; }
  bool same_slot(PackageId a, PackageId b) const {
    return name_id(a) == name_id(b) && (one_class() || architecture_class(a) == architecture_class(b));
  }
  /// May `provider` meet a requirement of `asking`, as far as architectures go?
  bool may_serve(PackageId provider, PackageId asking) const;
  /// Installed versions in the slot of a package: a range, which finds them as it is gone through.
  auto installed_in_slot(PackageId id) const {
    return slot(id) | std::views::filter([this](PackageId other) { return is_installed(other); });
  }
  /// Does any followed channel have a version of its slot?
  bool is_slot_offered(PackageId id) const;
  /// All visible versions in the slot, newest first.
  [[gnu::always_inline]] Ids slot(PackageId id) const {
    return one_class() ? versions_of(name_id(id)) : slot_of_class(id);
  }

  /// What a package is called and what it provides.
  std::vector<NameId> answers_to(PackageId id) const;
  /// Visible packages of another name that replace this one.
  std::vector<PackageId> replacers_of(PackageId old) const;
  void sort(std::span<PackageId> ids) const;  // into the order of lists

  [[gnu::always_inline]] std::span<const RelationId> relations(PackageId id, RelationList list) const {
    static_assert(sizeof(RelationId) == sizeof(std::uint32_t));
    const image::PackageRecord& one = record(id);
    std::size_t at = one.uses;
    for (std::size_t before = 0; before < static_cast<std::size_t>(list); ++before) at += one.counts[before];
    const auto numbers = layer(id).uses.slice(at, one.counts[static_cast<std::size_t>(list)]);
    for (const std::uint32_t number : numbers) require(number, relations_);
    return {reinterpret_cast<const RelationId*>(numbers.data()), numbers.size()};
  }
  std::string text(RelationId relation) const;  // "libbuoy >= 2.3 | libbuoy-static"
  /// Do two relations say the same, part by part?
  bool same_text(RelationId a, RelationId b) const;
  /// The parts of a relation as they are written down, for whoever decides for himself what they mean.
  struct ConstraintView {
    NameId name;
    Operator op;
    std::string_view version;
  };
  std::size_t constraint_count(RelationId relation) const;
  ConstraintView constraint(RelationId relation, std::size_t i) const;
  /// The visible packages that answer to a relation.
  [[gnu::always_inline]] Ids matching(RelationId relation) const {
    const auto known = matches_.find(static_cast<std::size_t>(relation));
    return known ? *known : find_matching(relation);
  }
  /// Calls f(PackageId) for each of them.
  template <typename Function>
  void each_match(RelationId relation, Function f) const {
    for (const PackageId id : matching(relation)) f(id);
  }
  /// What answers to one alternative of a relation.
  std::vector<PackageId> matching(RelationId relation, std::size_t alternative) const;

  struct OfferView {
    std::string_view repository, channel;
    std::uint32_t rank;
    bool enabled, followed;
    ByteCount size;
  };
  std::size_t offer_count(PackageId id) const;
  OfferView offer(PackageId id, std::size_t i) const;
  /// The best offer of an enabled repository, as Candidate::offers has it first; nothing for none.
  std::optional<OfferView> best_offer(PackageId id) const;

 private:
  Universe(const std::vector<Candidate>& candidates, const std::shared_ptr<const Layer>& base,
           std::vector<std::string> architectures);
  enum Flag : std::uint8_t {
    kKnown = 1,
    kVisible = 2,
    kInstalled = 4,
    kFollowed = 8,
    kFits = 16,
    kHidden = 32,
    kWanted = 64,
    kHeld = 128
  };
  struct Place {
    std::string_view repository, channel;
    std::uint32_t rank = 0;
    bool known = false, enabled = false, followed = false;
  };

  struct Architecture {  // as this root sees it
    std::string_view name;
    std::uint32_t group = 0;
    bool fits = false;
  };
  const std::vector<Architecture>& home_of(PackageId id) const {
    return is_base(id) ? base_architectures_ : overlay_architectures_;
  }
  bool is_base(PackageId id) const { return index_of(id) < base_size_; }
  const Layer& layer(PackageId id) const { return is_base(id) ? *base_ : *overlay_; }
  std::size_t own(PackageId id) const { return is_base(id) ? index_of(id) : index_of(id) - base_size_; }
  [[gnu::always_inline]] const image::PackageRecord& record(PackageId id) const { return layer(id).packages[own(id)]; }
  const image::RelationRecord& record(RelationId id) const {
    const auto number = static_cast<std::size_t>(id);
    const std::size_t of_base = base_->relation_count();
    return number < of_base ? base_->relations[number] : overlay_->relations[number - of_base];
  }
  const image::InstalledRecord* installed_record(PackageId id) const;
  [[gnu::always_inline]] std::uint8_t known_flags(PackageId id) const {
    return std::atomic_ref(flags_[require(static_cast<std::uint32_t>(id), flags_.size())]).load(kRelaxed);
  }
  [[gnu::always_inline]] std::uint8_t flags(PackageId id) const {
    const std::uint8_t known = known_flags(id);
    return (known & kKnown) != 0 ? known : find_flags(id);
  }
  std::uint8_t find_flags(PackageId id) const;
  Ids find_matching(RelationId relation) const;
  Ids find_versions(NameId name) const;
  Ids slot_of_class(PackageId id) const;
  bool is_replaced(NameId name) const;
  bool best_files_first(std::span<PackageId> ids) const;
  bool answers_in_overlay(const image::RelationRecord& relation, const image::ProviderRecord& provider,
                          const image::ConstraintRecord& constraint) const;
  void resolve_places();
  std::unique_ptr<Candidate> make(PackageId id) const;
  Installed make_installed(PackageId id, const image::InstalledRecord& record) const;
  std::vector<Offer> offers_of(PackageId id) const;
  template <typename Function>
  void each_provider(NameId name, Function f) const;
  bool followed(const Place& place, NameId name) const;

  /// A number of an image, which whoever filled the root may have made up, sums and all: whoever asks a universe may
  /// use what it gives out as a place in a list of his own.
  static std::uint32_t require(std::uint32_t number, std::size_t count) {
    if (number >= count) refuse_damaged();
    return number;
  }

  static constexpr std::memory_order kRelaxed = std::memory_order_relaxed;

  std::shared_ptr<const Layer> base_, overlay_;
  std::size_t base_size_ = 0, names_ = 0, relations_ = 0;  // names_, relations_: of both layers
  View view_;
  std::vector<Place> base_places_, overlay_places_;
  std::vector<Architecture> base_architectures_, overlay_architectures_;
  std::unordered_map<std::uint32_t, std::string> follows_;  // by name
  mutable std::vector<std::uint8_t> flags_;
  std::vector<bool> in_overlay_;  // by name of the base: does the overlay provide it?
  /// What of the overlay provides a name of the base.
  std::span<const image::ProviderRecord> overlay_providers(std::size_t name) const {
    if (name >= in_overlay_.size()) refuse_damaged();
    if (!in_overlay_[name]) return {};
    return overlay_->providers_of(static_cast<NameId>(name));
  }
  std::set<PackageId> protected_;
  std::vector<PackageId> installed_;
  std::vector<NameId> installed_names_;
  mutable ListCache matches_, versions_;  // by relation; by name, marked where some version is there as several files
  mutable std::once_flag replaced_found_;
  mutable std::vector<bool> replaced_;  // by name
  mutable std::mutex mutex_;            // of the following
  mutable std::unordered_map<std::uint32_t, std::unique_ptr<Candidate>> made_;
  mutable std::map<std::pair<NameId, std::uint32_t>, std::vector<PackageId>> slots_;  // where there are architectures
};

}  // namespace hambrel
