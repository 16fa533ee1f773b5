#include <algorithm>
#include <array>
#include <future>
#include <numeric>
#include <tuple>

#include "base/text.h"
#include "model/interning.h"
#include "model/layer.h"
#include "model/layer_sections.h"
#include "model/search_index.h"

namespace hambrel {

namespace {

struct OfferOf {
  std::uint32_t package;
  image::OfferHead head;
  image::OfferFile file;
};

std::uint32_t sum_of_sizes(std::uint32_t a, std::uint32_t b) {
  if (b > UINT32_MAX - a) throw too_much_text();
  return a + b;
}

void copy(std::uint8_t (&to)[32], const Digest& from) { std::copy(from.bytes.begin(), from.bytes.end(), to); }

}  // namespace

struct LayerBuilder::Impl {
  const Layer* base;
  // Texts of three kinds, each together: an answer that needs no description reads none of their pages.
  Texts texts, summaries, descriptions;
  std::vector<TextId> names;          // by temporary number
  std::vector<std::uint64_t> hashes;  // of the names that a package speaks of
  Numbers name_numbers, relation_numbers, place_numbers;
  std::vector<image::PackageRecord> packages;
  std::vector<image::DetailRecord> details;
  std::vector<image::RelationRecord> relations;
  std::vector<image::ConstraintRecord> constraints, at_hand;  // at_hand: of the relation that is looked for
  std::vector<std::uint32_t> uses;
  std::vector<TextId> lists, architectures;
  std::vector<image::PlaceRecord> places;
  std::vector<OfferOf> offers;
  std::vector<image::InstalledRecord> installed;  // package: an own handle, or of the base with kOfBase
  static constexpr std::uint32_t kOfBase = 1U << 31U;
  /// A section that is ready, until all are and the image can be put together without being moved again.
  struct Ready {
    Section section;
    std::shared_ptr<const void> owner;
    std::span<const std::byte> bytes;
  };
  std::vector<Ready> ready;

  template <typename Container>
  void keep(Section section, Container&& values) {
    using Value = typename Container::value_type;
    static_assert(std::is_trivially_copyable_v<Value> && std::has_unique_object_representations_v<Value>,
                  "padding would make images differ from run to run");
    const auto owner = std::make_shared<const Container>(std::move(values));
    ready.push_back({section, owner, std::as_bytes(std::span(*owner))});
  }

  std::size_t base_names() const { return base == nullptr ? 0 : base->names(); }
  std::size_t base_size() const { return base == nullptr ? 0 : base->size(); }
  std::size_t base_relations() const { return base == nullptr ? 0 : base->relation_count(); }

  /// Names of the base keep their number; others get temporary ones from base_names() on.
  std::uint32_t name(const std::string& text) {
    if (base != nullptr)
      if (const auto known = base->find_name(text)) return static_cast<std::uint32_t>(*known);
    const auto next = static_cast<std::uint32_t>(names.size());
    const std::uint32_t number =
        name_numbers.enter(hash_of(text), next, [&](std::uint32_t other) { return texts.at(names[other]) == text; });
    if (number == next) names.push_back(texts.enter(text));
    return static_cast<std::uint32_t>(base_names()) + number;
  }

  std::uint32_t relation(std::span<const Constraint> alternatives, bool by_name_only) {
    at_hand.clear();
    std::uint64_t hash = by_name_only ? 1 : 2;
    for (const Constraint& one : alternatives) {
      at_hand.push_back({name(one.name), one.op == Operator::Any ? 0 : texts.enter(one.version.text()),
                         static_cast<std::uint32_t>(one.op)});
      hash = mixed(hash ^ (at_hand.back().name + (static_cast<std::uint64_t>(at_hand.back().version) << 32U)));
      hash = mixed(hash + at_hand.back().op);
    }
    const auto next = static_cast<std::uint32_t>(relations.size());
    const std::uint32_t number = relation_numbers.enter(hash, next, [&](std::uint32_t other) {
      const image::RelationRecord& known = relations[other];
      return known.by_name_only == (by_name_only ? 1 : 0) && known.constraint_count == at_hand.size() &&
             std::memcmp(&constraints[known.constraints], at_hand.data(), at_hand.size() * sizeof at_hand[0]) == 0;
    });
    if (number == next) {
      relations.push_back({static_cast<std::uint32_t>(constraints.size()), 0, 0,
                           static_cast<std::uint16_t>(at_hand.size()), static_cast<std::uint16_t>(by_name_only)});
      constraints.insert(constraints.end(), at_hand.begin(), at_hand.end());
    }
    return number;
  }

  /// Where a package of the same name in the base has the same relation, that one is used: a statement about several
  /// versions of a package is one statement.
  std::uint32_t relation_of(const Package& package, RelationList list, std::span<const Constraint> alternatives,
                            bool by_name_only) {
    if (base != nullptr)
      if (const auto known = base->find_name(package.name))
        for (const image::ProviderRecord& one : base->providers_of(static_cast<NameId>(*known))) {
          const image::PackageRecord& other = base->packages[one.package];
          if (other.name != *known) continue;
          std::uint32_t at = other.uses;
          for (std::size_t before = 0; before < static_cast<std::size_t>(list); ++before) at += other.counts[before];
          for (const std::uint32_t use : base->uses.slice(at, other.counts[static_cast<std::size_t>(list)]))
            if (same_as_base(use, alternatives, by_name_only)) return use;
        }
    return static_cast<std::uint32_t>(base_relations()) + relation(alternatives, by_name_only);
  }

  bool same_as_base(std::uint32_t number, std::span<const Constraint> alternatives, bool by_name_only) const {
    const image::RelationRecord& record = base->relations[number];
    if (record.constraint_count != alternatives.size() || (record.by_name_only != 0) != by_name_only) return false;
    for (std::size_t i = 0; i < alternatives.size(); ++i) {
      const image::ConstraintRecord& one = base->constraints[record.constraints + i];
      const Constraint& asked = alternatives[i];
      if (one.op != static_cast<std::uint32_t>(asked.op) || base->name(one.name) != asked.name) return false;
      if (asked.op != Operator::Any && base->text(one.version) != asked.version.text()) return false;
    }
    return true;
  }

  std::uint32_t list_of(const std::vector<std::string>& values) {
    const auto start = static_cast<std::uint32_t>(lists.size());
    for (const std::string& value : values) lists.push_back(texts.enter(value));
    return start;
  }

  std::uint8_t architecture(const std::string& text) {
    const TextId id = texts.enter(text);
    const auto found = std::find(architectures.begin(), architectures.end(), id);
    if (found != architectures.end()) return static_cast<std::uint8_t>(found - architectures.begin());
    if (architectures.size() == 255)
      throw Error(ErrorCode::Invalid, "the indexes name more than 255 architectures", {}, "drop a repository");
    architectures.push_back(id);
    return static_cast<std::uint8_t>(architectures.size() - 1);
  }

  /// The names of a package's relations are looked up one after the other: what that will read is fetched ahead.
  void expect_names(const Package& package) {
    hashes.clear();
    const auto expect = [&](const Constraint& one) {
      hashes.push_back(hash_of(one.name));
      name_numbers.prefetch(hashes.back());
    };
    for (const auto* list : {&package.requires_, &package.recommends, &package.suggests})
      for (const Relation& relation : *list)
        for (const Constraint& one : relation.alternatives) expect(one);
    for (const auto* list : {&package.conflicts, &package.provides, &package.replaces})
      for (const Constraint& one : *list) expect(one);
    for (const std::uint64_t hash : hashes)
      if (const auto number = name_numbers.first_guess(hash)) texts.prefetch(names[*number]);
  }

  std::string_view version(std::uint32_t package) const { return texts.at(packages[package].version); }

  void sort_names();
  void sort_packages();
  std::vector<image::ProviderRecord> make_providers();
  void find_candidates(const std::vector<image::ProviderRecord>& providers);
  void write_offers();
  void write_installed();
  void write_replacers();
  void write_against();
  std::uint32_t name_of(std::uint32_t package) const;
  std::uint32_t first_name(std::uint32_t relation) const;
  std::string_view text_of_name(std::uint32_t name) const {
    return name < base_names() ? base->name(name) : texts.at(names[name - base_names()]);
  }
  SearchIndexBuilder::Arrays make_search() const;
  void find_positions();
  std::vector<std::uint32_t> final_number;  // of a handle
};

LayerBuilder::LayerBuilder(const Layer* base) : impl_(std::make_unique<Impl>()) { impl_->base = base; }
LayerBuilder::~LayerBuilder() = default;

LayerBuilder::Handle LayerBuilder::add(const Package& package) {
  Impl& in = *impl_;
  image::PackageRecord record{};
  if (in.base == nullptr) in.expect_names(package);
  record.name = in.name(package.name);
  record.version = in.texts.enter(package.version.text());
  record.arch = in.architecture(package.arch);
  record.parallel = static_cast<std::uint8_t>(std::min<std::uint32_t>(package.parallel, 255));
  record.installed_size = package.installed_size;
  record.uses = static_cast<std::uint32_t>(in.uses.size());
  const auto add_relations = [&](RelationList list, const auto& values) {
    record.counts[static_cast<std::size_t>(list)] = static_cast<std::uint16_t>(values.size());
    for (const auto& value : values) {
      const bool by_name_only = list == RelationList::Replaces;
      if constexpr (std::is_same_v<std::decay_t<decltype(value)>, Relation>)
        in.uses.push_back(in.relation_of(package, list, value.alternatives, by_name_only));
      else
        in.uses.push_back(in.relation_of(package, list, std::span(&value, 1), by_name_only));
    }
  };
  add_relations(RelationList::Requires, package.requires_);
  add_relations(RelationList::Recommends, package.recommends);
  add_relations(RelationList::Suggests, package.suggests);
  add_relations(RelationList::Conflicts, package.conflicts);
  add_relations(RelationList::Provides, package.provides);
  add_relations(RelationList::Replaces, package.replaces);
  image::DetailRecord detail{};
  record.summary = in.summaries.append(package.summary);
  detail.description = in.descriptions.append(package.description);
  detail.license = in.texts.enter(package.license);
  detail.homepage = in.texts.enter(package.homepage);
  detail.maintainer = in.texts.enter(package.maintainer);
  detail.category = in.texts.enter(package.category);
  detail.source = in.texts.enter(package.source);
  detail.restart = in.texts.enter(package.restart);
  detail.config_globs = in.list_of(package.config_globs);
  detail.config_count = static_cast<std::uint32_t>(package.config_globs.size());
  detail.features = in.list_of(package.features);
  detail.feature_count = static_cast<std::uint32_t>(package.features.size());
  detail.privileged = in.list_of(package.privileged);
  detail.privileged_count = static_cast<std::uint32_t>(package.privileged.size());
  detail.file_count = package.file_count;
  record.details = static_cast<std::uint32_t>(in.details.size());
  in.details.push_back(detail);
  in.packages.push_back(record);
  return static_cast<Handle>(in.packages.size() - 1);
}

void LayerBuilder::add_offer(Handle handle, const Offer& offer) {
  Impl& in = *impl_;
  const TextId repository = in.texts.enter(offer.repository), channel = in.texts.enter(offer.channel);
  const auto next = static_cast<std::uint32_t>(in.places.size());
  const std::uint32_t place = in.place_numbers.enter(
      mixed(repository + (static_cast<std::uint64_t>(channel) << 32U)), next, [&](std::uint32_t other) {
        return in.places[other].repository == repository && in.places[other].channel == channel;
      });
  if (place == next) in.places.push_back({repository, channel});
  OfferOf one{};
  one.package = handle;
  one.head = {place, 0, offer.size};
  copy(one.file.digest, offer.digest);
  copy(one.file.table_digest, offer.table_digest);
  one.file.table_offset = offer.table_offset, one.file.table_size = offer.table_size;
  one.file.local_path = in.texts.enter(offer.local_path);
  in.offers.push_back(one);
}

void LayerBuilder::shadow(Handle handle, std::uint32_t base_package) {
  impl_->packages[handle].shadows = base_package + 1;
}

void LayerBuilder::add_installed(Handle handle, const Installed& installed) {
  Impl& in = *impl_;
  image::InstalledRecord record{};
  record.package = handle;
  record.row = installed.row, record.time = installed.time;
  record.wanted = installed.reason == Reason::Wanted ? 1 : 0;
  record.origin = in.texts.enter(installed.origin);
  copy(record.digest, installed.digest);
  if (installed.hold) {
    record.held = 1;
    record.held_since = installed.hold->since, record.held_until = installed.hold->until;
    record.hold_reason = in.texts.enter(installed.hold->reason);
    record.hold_user = in.texts.enter(installed.hold->user);
  }
  in.installed.push_back(record);
}

void LayerBuilder::add_installed_of_base(std::uint32_t base_package, const Installed& installed) {
  add_installed(base_package | Impl::kOfBase, installed);
}

void LayerBuilder::Impl::sort_names() {
  std::vector<std::uint32_t> order(names.size()), place(names.size());
  std::iota(order.begin(), order.end(), 0U);
  std::sort(order.begin(), order.end(),
            [&](std::uint32_t a, std::uint32_t b) { return texts.at(names[a]) < texts.at(names[b]); });
  std::vector<TextId> sorted(names.size());
  for (std::size_t i = 0; i < order.size(); ++i)
    sorted[i] = names[order[i]], place[order[i]] = static_cast<std::uint32_t>(i);
  names = std::move(sorted);
  const auto first = static_cast<std::uint32_t>(base_names());
  const auto renumber = [&](std::uint32_t& number) {
    if (number >= first) number = first + place[number - first];
  };
  for (auto& package : packages) renumber(package.name);
  for (auto& constraint : constraints) renumber(constraint.name);
}

/// By name, version descending, architecture; the same one met again gives its offers to the first.
void LayerBuilder::Impl::sort_packages() {
  const auto order_of = [&](std::uint32_t a, std::uint32_t b) {
    const image::PackageRecord &x = packages[a], &y = packages[b];
    if (x.name != y.name)
      return base == nullptr ? (x.name < y.name ? -1 : 1) : text_of_name(x.name).compare(text_of_name(y.name));
    if (x.version != y.version) return order_versions(version(b), version(a));
    if (x.arch != y.arch) return texts.at(architectures[x.arch]).compare(texts.at(architectures[y.arch]));
    return 0;
  };
  std::vector<std::uint32_t> order(packages.size());
  std::iota(order.begin(), order.end(), 0U);
  std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) { return order_of(a, b) < 0; });
  final_number.assign(packages.size(), 0);
  std::vector<image::PackageRecord> sorted;
  sorted.reserve(packages.size());
  std::uint32_t last = 0;
  for (const std::uint32_t one : order) {
    if (sorted.empty() || order_of(last, one) != 0) sorted.push_back(packages[one]), last = one;
    final_number[one] = static_cast<std::uint32_t>(sorted.size() - 1);
  }
  packages = std::move(sorted);
}

std::vector<image::ProviderRecord> LayerBuilder::Impl::make_providers() {
  std::vector<image::ProviderRecord> providers;
  for (std::uint32_t i = 0; i < packages.size(); ++i) {
    const image::PackageRecord& package = packages[i];
    const auto global = static_cast<std::uint32_t>(base_size()) + i;
    providers.push_back({package.name, global, package.version});
    std::uint32_t at = package.uses;
    for (std::size_t list = 0; list < static_cast<std::size_t>(RelationList::Provides); ++list)
      at += package.counts[list];
    for (std::size_t k = 0; k < package.counts[static_cast<std::size_t>(RelationList::Provides)]; ++k) {
      const std::uint32_t number = uses[at + k];
      if (number < base_relations()) {
        const image::ConstraintRecord& one = base->constraints[base->relations[number].constraints];
        // texts of the base are not texts of the overlay
        const auto text = base->text(one.version);
        providers.push_back({one.name, global, texts.enter(text)});
      } else {
        const image::ConstraintRecord& one = constraints[relations[number - base_relations()].constraints];
        providers.push_back({one.name, global, one.version});
      }
    }
  }
  std::sort(providers.begin(), providers.end(), [](const auto& a, const auto& b) {
    return std::tie(a.name, a.package, a.version) < std::tie(b.name, b.package, b.version);
  });
  return providers;
}

void LayerBuilder::Impl::find_candidates(const std::vector<image::ProviderRecord>& providers) {
  std::vector<std::uint32_t> starts;  // of names, for a base layer, which has most of the work
  if (base == nullptr) {
    starts.assign(names.size() + 1, 0);
    for (const auto& one : providers) ++starts[one.name + 1];
    std::partial_sum(starts.begin(), starts.end(), starts.begin());
  }
  const auto own = [&](std::uint32_t name) -> std::span<const image::ProviderRecord> {
    if (base == nullptr) return std::span(providers).subspan(starts[name], starts[name + 1] - starts[name]);
    const auto [first, last] = std::equal_range(providers.begin(), providers.end(), image::ProviderRecord{name, 0, 0},
                                                [](const auto& a, const auto& b) { return a.name < b.name; });
    return {first, last};
  };
  std::vector<std::uint32_t> all, found;
  for (image::RelationRecord& relation : relations) {
    found.clear();
    for (std::size_t i = 0; i < relation.constraint_count; ++i) {
      const image::ConstraintRecord& one = constraints[relation.constraints + i];
      const auto op = static_cast<Operator>(one.op);
      const std::string_view asked = texts.at(one.version);
      if (base != nullptr && one.name < base_names())
        for (const image::ProviderRecord& provider : base->providers_of(static_cast<NameId>(one.name))) {
          const bool by_name = base->packages[provider.package].name == one.name;
          if (relation.by_name_only != 0 && !by_name) continue;
          const std::string_view has = base->text(provider.version);
          if (op == Operator::Any || (!has.empty() && version_allowed(op, asked, has)))
            found.push_back(provider.package);
        }
      for (const image::ProviderRecord& provider : own(one.name)) {
        const bool by_name = packages[provider.package - base_size()].name == one.name;
        if (relation.by_name_only != 0 && !by_name) continue;
        const std::string_view has = texts.at(provider.version);
        if (op == Operator::Any || (!has.empty() && version_allowed(op, asked, has))) found.push_back(provider.package);
      }
    }
    std::sort(found.begin(), found.end());
    found.erase(std::unique(found.begin(), found.end()), found.end());
    relation.candidates = static_cast<std::uint32_t>(all.size());
    relation.candidate_count = static_cast<std::uint32_t>(found.size());
    all.insert(all.end(), found.begin(), found.end());
  }
  keep(Section::Candidates, std::move(all));
}

void LayerBuilder::Impl::write_offers() {
  for (OfferOf& one : offers) one.package = final_number[one.package];
  std::stable_sort(offers.begin(), offers.end(), [](const auto& a, const auto& b) { return a.package < b.package; });
  std::vector<image::OfferHead> heads;
  std::vector<image::OfferFile> files;
  for (const OfferOf& one : offers) {
    image::PackageRecord& package = packages[one.package];
    if (package.offer_count == 0) package.offers = static_cast<std::uint32_t>(heads.size());
    ++package.offer_count;
    heads.push_back(one.head);
    files.push_back(one.file);
  }
  offers.clear(), offers.shrink_to_fit();
  keep(Section::Offers, std::move(heads));
  keep(Section::OfferFiles, std::move(files));
}

void LayerBuilder::Impl::write_installed() {
  for (image::InstalledRecord& one : installed)
    one.package = (one.package & kOfBase) != 0 ? one.package & ~kOfBase
                                               : static_cast<std::uint32_t>(base_size()) + final_number[one.package];
  std::sort(installed.begin(), installed.end(), [](const auto& a, const auto& b) { return a.package < b.package; });
  std::vector<image::InstalledHead> heads;
  for (const image::InstalledRecord& one : installed)
    heads.push_back(
        {one.package, name_of(one.package),
         (one.wanted != 0 ? image::InstalledHead::kWanted : 0) | (one.held != 0 ? image::InstalledHead::kHeld : 0), 0});
  write_against();
  keep(Section::InstalledHeads, std::move(heads));
  keep(Section::Installed, std::move(installed));
}

std::uint32_t LayerBuilder::Impl::name_of(std::uint32_t package) const {
  return package < base_size() ? base->packages[package].name : packages[package - base_size()].name;
}

/// What installed packages conflict with or replace, by the names that this is about.
void LayerBuilder::Impl::write_against() {
  std::vector<image::AgainstRecord> records;
  for (const image::InstalledRecord& one : installed) {
    const bool of_base = one.package < base_size();
    const image::PackageRecord& package = of_base ? base->packages[one.package] : packages[one.package - base_size()];
    std::uint32_t at = package.uses;
    for (std::size_t list = 0; list < kRelationLists; ++list) {
      const bool conflicts = list == static_cast<std::size_t>(RelationList::Conflicts);
      const bool replaces = list == static_cast<std::size_t>(RelationList::Replaces);
      for (std::uint32_t k = 0; k < package.counts[list]; ++k) {
        if (!conflicts && !replaces) continue;
        const std::uint32_t number = of_base ? base->uses[at + k] : uses[at + k];
        records.push_back({first_name(number), one.package, number, replaces ? 1U : 0U});
      }
      at += package.counts[list];
    }
  }
  std::sort(records.begin(), records.end(), [](const auto& a, const auto& b) {
    return std::tie(a.name, a.package, a.relation) < std::tie(b.name, b.package, b.relation);
  });
  keep(Section::Against, std::move(records));
}

/// The name in the first constraint of a relation.
std::uint32_t LayerBuilder::Impl::first_name(std::uint32_t relation) const {
  return relation < base_relations() ? base->constraints[base->relations[relation].constraints].name
                                     : constraints[relations[relation - base_relations()].constraints].name;
}

void LayerBuilder::Impl::write_replacers() {
  std::vector<image::ReplacerRecord> records;
  for (std::uint32_t i = 0; i < packages.size(); ++i) {
    std::uint32_t at = packages[i].uses;
    for (std::size_t list = 0; list < static_cast<std::size_t>(RelationList::Replaces); ++list)
      at += packages[i].counts[list];
    for (std::size_t k = 0; k < packages[i].counts[static_cast<std::size_t>(RelationList::Replaces)]; ++k) {
      const std::uint32_t number = uses[at + k];
      records.push_back({first_name(number), static_cast<std::uint32_t>(base_size()) + i, number});
    }
  }
  std::sort(records.begin(), records.end(), [](const auto& a, const auto& b) {
    return std::tie(a.name, a.package, a.relation) < std::tie(b.name, b.package, b.relation);
  });
  keep(Section::Replacers, std::move(records));
}

/// The words of each package, once where neighbouring versions say the same.
SearchIndexBuilder::Arrays LayerBuilder::Impl::make_search() const {
  SearchIndexBuilder index;
  std::array<std::string, 4> before, fields;
  for (std::uint32_t i = 0; i < packages.size(); ++i) {
    const image::PackageRecord& package = packages[i];
    fields[0] = text_of_name(package.name);
    fields[1] = summaries.at(package.summary);
    fields[2].clear();
    std::uint32_t at = package.uses;
    for (std::size_t list = 0; list < static_cast<std::size_t>(RelationList::Provides); ++list)
      at += package.counts[list];
    for (std::size_t k = 0; k < package.counts[static_cast<std::size_t>(RelationList::Provides)]; ++k)
      fields[2].append(text_of_name(first_name(uses[at + k]))).push_back('\n');
    fields[3] = descriptions.at(details[package.details].description);
    if (i > 0 && fields == before) continue;
    for (std::uint32_t field = 0; field < fields.size(); ++field)
      index.add(static_cast<std::uint32_t>(base_size()) + i, static_cast<SearchField>(field), fields[field]);
    std::swap(before, fields);
  }
  return index.finish();
}

/// Where the packages of an overlay stand between those of the base.
void LayerBuilder::Impl::find_positions() {
  for (image::PackageRecord& package : packages) {
    const std::string_view name = text_of_name(package.name);
    const std::string_view arch = texts.at(architectures[package.arch]), own = texts.at(package.version);
    std::size_t low = 0, high = base_size();
    while (low < high) {
      const std::size_t middle = low + (high - low) / 2;
      const image::PackageRecord& other = base->packages[middle];
      int order = base->name(other.name).compare(name);
      if (order == 0) order = order_versions(own, base->text(other.version));
      if (order == 0) order = base->text(base->architectures[other.arch]).compare(arch);
      if (order < 0)
        low = middle + 1;
      else
        high = middle;
    }
    package.position = static_cast<std::uint32_t>(low);
  }
}

std::string LayerBuilder::finish(std::string_view key) {
  Impl& in = *impl_;
  in.sort_names();
  in.sort_packages();
  if (in.base != nullptr) in.find_positions();
  auto searching =  // beside the rest: it only reads what stands fast by now
      std::async(std::launch::async, [&] { return in.make_search(); });
  in.write_offers();
  auto providers = in.make_providers();
  in.find_candidates(providers);
  in.write_installed();
  in.write_replacers();
  SearchIndexBuilder::Arrays search = searching.get();
  in.keep(Section::Words, std::move(search.words));
  in.keep(Section::WordRecords, std::move(search.records));
  in.keep(Section::Postings, std::move(search.postings));
  in.keep(Section::Providers, std::move(providers));
  if (in.base == nullptr) {
    std::vector<std::uint32_t> starts(in.names.size() + 1, 0);
    for (const image::PackageRecord& package : in.packages) ++starts[package.name + 1];
    std::partial_sum(starts.begin(), starts.end(), starts.begin());
    in.keep(Section::NameStarts, std::move(starts));
  }
  const std::uint32_t summaries_from = in.texts.size(),
                      descriptions_from = sum_of_sizes(summaries_from, in.summaries.size());
  sum_of_sizes(descriptions_from, in.descriptions.size());
  for (image::PackageRecord& package : in.packages)
    if (package.summary != 0) package.summary += summaries_from;
  for (image::DetailRecord& detail : in.details)
    if (detail.description != 0) detail.description += descriptions_from;
  in.keep(Section::Names, std::move(in.names));
  in.keep(Section::Packages, std::move(in.packages));
  in.keep(Section::Uses, std::move(in.uses));
  in.keep(Section::Relations, std::move(in.relations));
  in.keep(Section::Constraints, std::move(in.constraints));
  in.keep(Section::Details, std::move(in.details));
  in.keep(Section::Places, std::move(in.places));
  in.keep(Section::Architectures, std::move(in.architectures));
  in.keep(Section::Lists, std::move(in.lists));
  for (Texts* const texts : {&in.texts, &in.summaries, &in.descriptions}) in.keep(Section::Text, texts->take());
  ImageWriter writer;
  std::size_t total = 0;
  for (const Impl::Ready& one : in.ready) total += one.bytes.size() + 16;
  writer.reserve(total);
  std::optional<Section> last;
  for (Impl::Ready& one : in.ready) {
    if (last == one.section)
      writer.extend(one.bytes);
    else
      writer.add_bytes(static_cast<std::uint32_t>(one.section), one.bytes);
    last = one.section;
    one.owner.reset();
  }
  const Layer* const base = in.base;
  impl_ = std::make_unique<Impl>();
  impl_->base = base;
  return writer.finish(key);
}

}  // namespace hambrel
