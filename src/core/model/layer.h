// A layer: package versions compiled into an image, so that planning reads numbers where it would have to parse.
//
// The base layer holds what the repositories' indexes tell and lives in the index cache. An overlay is compiled upon
// one base: what is installed and not word for word in the base, package files given by hand, and which packages are
// installed. Numbering goes on from the base to the overlay: names, packages and relations of the overlay begin where
// those of the base end, so that one number means one thing in both.
//
// Invariants: packages of a layer stand by (name, version descending, architecture, file), each once; names by bytes;
// a relation that occurs in many packages stands once, with its candidates within base and overlay found beforehand.
// Nothing here depends on settings: what is enabled, followed or fits the architecture is for Universe to say.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/image.h"
#include "model/offer.h"
#include "model/package.h"
#include "model/written_relations.h"

namespace hambrel {

enum class NameId : std::uint32_t {};
enum class RelationId : std::uint32_t {};
using TextId = std::uint32_t;  // place in the text array; 0 is the empty text

inline constexpr std::size_t kRelationLists = 6;

namespace image {

struct PackageRecord {
  std::uint32_t name, version, uses, offers, details;
  std::uint16_t counts[kRelationLists];
  std::uint16_t offer_count;
  std::uint8_t arch, parallel;
  std::uint32_t shadows;   // overlay: 1 + the base package that it stands in for, 0: none
  std::uint32_t position;  // overlay: how many base packages come before it
  std::uint32_t summary;   // beside the numbers: lists show it, and need none of the details then
  std::uint64_t installed_size;
};
struct DetailRecord {
  std::uint32_t flags, description, license, homepage, maintainer, category, source, restart;
  std::uint32_t config_globs, config_count, features, feature_count, privileged,
      privileged_count;         // places in the list array
  std::uint32_t actions, zero;  // as canonical JSON
  std::uint64_t file_count;
  static constexpr std::uint32_t kEssential = 1;
};
struct RelationRecord {
  std::uint32_t constraints, candidates, candidate_count;
  std::uint16_t constraint_count, by_name_only;  // by_name_only: what a package replaces is meant by its own name
};
struct ConstraintRecord {
  std::uint32_t name, version, op;
};
struct ProviderRecord {                  // by name, then package
  std::uint32_t name, package, version;  // version: empty for a name provided without one
};
struct ReplacerRecord {  // by the name that is replaced, then package
  std::uint32_t name, package, relation;
};
struct OfferHead {
  std::uint32_t place, zero;
  std::uint64_t size;
};
struct OfferFile {
  std::uint8_t digest[32], table_digest[32];
  std::uint64_t table_offset, table_size;
  std::uint32_t local_path, zero;
};
struct PlaceRecord {
  std::uint32_t repository, channel;
};
struct WordRecord {  // by number of the word, one more at the end: where it begins, and its first posting
  std::uint32_t start, postings;
};
struct InstalledHead {  // by package, in step with InstalledRecord: what planning needs of what stays
  std::uint32_t package, name, flags, zero;
  static constexpr std::uint32_t kWanted = 1, kHeld = 2, kEssential = 4;
};
struct AgainstRecord {  // an installed package that stands against this name, by name, then package
  std::uint32_t name, package, relation, replaces;
};
struct InstalledRecord {
  std::int64_t row, time, held_since, held_until;
  std::uint32_t package, wanted, origin, held, hold_reason, hold_user, essential, zero;
  std::uint8_t digest[32];
};

}  // namespace image

class Layer {
 public:
  /// Over an image that LayerBuilder made.
  explicit Layer(Image image);
  Layer(const Layer&) = delete;
  Layer& operator=(const Layer&) = delete;

  std::string_view key() const { return image_.key(); }
  std::uint64_t stamp() const { return image_.stamp(); }
  std::size_t names() const { return names_.size(); }
  std::size_t size() const { return packages.size(); }
  std::size_t relation_count() const { return relations.size(); }
  [[gnu::always_inline]] std::string_view text(TextId id) const {
    std::uint32_t size = 0;
    std::memcpy(&size, text_.slice(id, sizeof size).data(), sizeof size);
    const auto characters = text_.slice(id + sizeof size, size);
    return {characters.data(), characters.size()};
  }
  std::string_view name(std::size_t own) const { return text(names_[own]); }
  std::optional<std::size_t> find_name(std::string_view name) const;  // among this layer's own names
  /// Names with a prefix: the range [first, last) of own names.
  std::pair<std::size_t, std::size_t> names_with_prefix(std::string_view prefix) const;
  /// Checks now what tells how packages hang together, for whoever will look at most of them.
  void check_relations() const;
  std::span<const image::ProviderRecord> providers_of(NameId name) const;
  std::span<const image::ReplacerRecord> replacers_of(NameId name) const;
  std::span<const image::AgainstRecord> against_of(NameId name) const;

  // The arrays themselves, by own numbers.
  Array<image::PackageRecord> packages;
  Array<std::uint32_t> uses;
  Array<image::RelationRecord> relations;
  Array<image::ConstraintRecord> constraints;
  Array<std::uint32_t> candidates;
  Array<image::DetailRecord> details;
  Array<image::OfferHead> offers;
  Array<image::OfferFile> offer_files;
  Array<image::PlaceRecord> places;
  Array<TextId> architectures, lists;
  Array<char> words;  // see search_index.h
  Array<image::WordRecord> word_records;
  Array<std::uint32_t> postings;  // package and field
  Array<image::InstalledRecord> installed;
  Array<image::InstalledHead> installed_heads;
  Array<image::AgainstRecord> against;
  Array<image::ProviderRecord> providers;
  Array<std::uint32_t> name_starts;  // base: by name, the first package called so; one more at the end
  Array<image::ReplacerRecord> replacers;

 private:
  Image image_;
  Array<TextId> names_;
  Array<char> text_;
  Array<std::uint32_t> provider_starts_;  // by name, also of the base below: the first of its providers; one more
};

class LayerBuilder {
 public:
  /// `base` for an overlay upon it; it must outlive the builder.
  explicit LayerBuilder(const Layer* base = nullptr);
  ~LayerBuilder();

  using Handle = std::uint32_t;
  Handle add(const Package& package);
  /// For a base: a package whose relations are told apart from it. Throws Error{Invalid} without a place for one that
  /// is none.
  Handle add(const Package& package, const WrittenRelations& relations);
  void add_offer(Handle handle, const Offer& offer);
  /// The same package version and architecture in the base is hidden by this one, its offers go over to it.
  void shadow(Handle handle, std::uint32_t base_package);
  void add_installed(Handle handle, const Installed& installed, bool essential);
  void add_installed_of_base(std::uint32_t base_package, const Installed& installed, bool essential);

  /// The image. The builder is empty afterwards.
  ImagePieces finish(std::string_view key);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace hambrel
