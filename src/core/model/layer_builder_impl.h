// What a layer is made of while it is filled (layer_builder.cpp) and then put in order and written (layer_writer.cpp).
//
// Only for these two. Invariant: all numbers of names and packages are temporary, in the order in which they came,
// until sort_names() and sort_packages() gave them their final ones.
#pragma once

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

struct OfferOf {
  std::uint32_t package;
  image::OfferHead head;
  image::OfferFile file;
};

/// The numbers of relations by their texts.
class KnownRelations {
 public:
  void expect(RelationList list, std::string_view text) const { numbers_.prefetch(hash_of(list, text)); }
  /// Calls read(text) for one that was not met before.
  template <typename Read>
  std::uint32_t number(RelationList list, std::string_view text, Read read) {
    const auto next = static_cast<std::uint32_t>(known_.size());
    const auto same = [&](std::uint32_t other) {
      const Known& one = known_[other];
      return one.list == list && std::string_view(texts_).substr(one.start, one.size) == text;
    };
    const std::uint32_t found = numbers_.enter(hash_of(list, text), next, same);
    if (found != next) return known_[found].relation;
    if (texts_.size() + text.size() > UINT32_MAX) throw too_much_text();
    const auto start = static_cast<std::uint32_t>(texts_.size()), size = static_cast<std::uint32_t>(text.size());
    known_.push_back({list, start, size, 0});
    texts_ += text;
    return known_.back().relation = read(text);
  }

 private:
  struct Known {
    RelationList list;
    std::uint32_t start, size, relation;
  };
  static std::uint64_t hash_of(RelationList list, std::string_view text) {
    return mixed(hambrel::hash_of(text) + static_cast<std::uint64_t>(list));
  }

  Numbers numbers_;
  std::vector<Known> known_;
  std::string texts_;
};

struct LayerBuilder::Impl {
  const Layer* base;
  // Texts of three kinds, each together: an answer that needs no description reads none of their pages.
  Texts texts;
  TextPile summaries, descriptions;
  std::vector<TextId> names;          // by temporary number
  std::vector<std::uint64_t> hashes;  // of the names that a package speaks of
  Numbers name_numbers, relation_numbers, place_numbers;
  KnownRelations written;
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
  ImageWriter image;

  template <typename Container>
  void keep(Section section, Container&& values) {
    image.add(static_cast<std::uint32_t>(section), std::forward<Container>(values));
  }

  std::uint32_t add(const Package& package, image::PackageRecord record);
  std::uint32_t read(RelationList list, std::string_view text);

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

  void end_adding();
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
  using SearchFields = std::array<std::string, 4>;
  void fill_fields(std::size_t i, SearchFields& fields) const;
  SearchIndexBuilder words_of(std::size_t first, std::size_t last) const;
  void find_positions();
  std::vector<std::uint32_t> final_number;  // of a handle
};

}  // namespace hambrel
