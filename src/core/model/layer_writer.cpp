// Putting a filled layer in order and writing its image.
#include <malloc.h>

#include "base/head_of.h"
#include "base/parallel.h"
#include "model/layer_builder_impl.h"

namespace hambrel {

namespace {

std::uint32_t sum_of_sizes(std::uint32_t a, std::uint32_t b) {
  if (b > UINT32_MAX - a) throw too_much_text();
  return a + b;
}

/// Of records in the order of names: by name, the first of it; one more at the end.
template <typename Record>
std::vector<std::uint32_t> starts_of(const std::vector<Record>& records, std::size_t names) {
  std::vector<std::uint32_t> starts(names + 1, 0);
  for (const Record& one : records) ++starts[one.name + 1];
  std::partial_sum(starts.begin(), starts.end(), starts.begin());
  return starts;
}

}  // namespace

/// What values are found by is let go, and what grew, which left as much behind as is in use, goes back to the system.
void LayerBuilder::Impl::end_adding() {
  for (Numbers* const one : {&name_numbers, &relation_numbers, &place_numbers}) *one = {};
  written = {};
  if (base == nullptr) texts.end_entering();  // an overlay enters texts of its base
  malloc_trim(0);
}

void LayerBuilder::Impl::sort_names() {
  // by the first bytes of each, which lie together; what goes on behind them is seldom looked at
  struct Head {
    std::array<std::uint64_t, 2> bytes;
    std::uint32_t number;
  };
  std::vector<Head> order(names.size());
  for (std::uint32_t i = 0; i < order.size(); ++i) {
    const std::string_view text = texts.at(names[i]);
    order[i] = {{head_of(text), text.size() > kHeadOfText ? head_of(text.substr(kHeadOfText)) : 0}, i};
  }
  std::sort(order.begin(), order.end(), [&](const Head& a, const Head& b) {
    return a.bytes != b.bytes ? a.bytes < b.bytes : texts.at(names[a.number]) < texts.at(names[b.number]);
  });
  std::vector<std::uint32_t> place(names.size());
  std::vector<TextId> sorted(names.size());
  for (std::size_t i = 0; i < order.size(); ++i) {
    sorted[i] = names[order[i].number];
    place[order[i].number] = static_cast<std::uint32_t>(i);
  }
  names = std::move(sorted);
  const auto first = static_cast<std::uint32_t>(base_names());
  const auto renumber = [&](std::uint32_t& number) {
    if (number >= first) number = first + place[number - first];
  };
  for (auto& package : packages) renumber(package.name);
  for (auto& constraint : constraints) renumber(constraint.name);
}

/// By name, version descending, architecture; the same file met again gives its offers to the first. Another file of
/// the same version is a package of its own: its relations may be others.
void LayerBuilder::Impl::sort_packages() {
  constexpr image::OfferFile kNone{};
  std::vector<const image::OfferFile*> files(packages.size(), &kNone);
  for (auto one = offers.rbegin(); one != offers.rend(); ++one) files[one->package] = &one->file;
  const auto order_of = [&](std::uint32_t a, std::uint32_t b) {
    const image::PackageRecord &x = packages[a], &y = packages[b];
    if (x.name != y.name)
      return base == nullptr ? (x.name < y.name ? -1 : 1) : text_of_name(x.name).compare(text_of_name(y.name));
    if (x.version != y.version) return order_versions(version(b), version(a));
    if (x.arch != y.arch) return texts.at(architectures[x.arch]).compare(texts.at(architectures[y.arch]));
    if (base != nullptr) return 0;  // what is installed, or given by hand, is one of its version
    return std::memcmp(files[a]->digest, files[b]->digest, sizeof files[a]->digest);
  };
  std::vector<std::uint32_t> order(packages.size());
  std::iota(order.begin(), order.end(), 0U);
  std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) { return order_of(a, b) < 0; });
  final_number.assign(packages.size(), 0);
  std::vector<image::PackageRecord> sorted;
  sorted.reserve(packages.size());
  std::uint32_t last = 0;
  for (const std::uint32_t one : order) {
    if (sorted.empty() || order_of(last, one) != 0) {
      sorted.push_back(packages[one]);
      last = one;
    }
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
  if (base == nullptr) starts = starts_of(providers, names.size());
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
  std::vector<std::uint32_t> next(packages.size() + 1, 0);  // by package, where its next offer goes
  for (const OfferOf& one : offers) ++next[final_number[one.package] + 1];
  std::partial_sum(next.begin(), next.end(), next.begin());
  std::vector<image::OfferHead> heads(offers.size());
  std::vector<image::OfferFile> files(offers.size());
  for (const OfferOf& one : offers) {
    image::PackageRecord& package = packages[final_number[one.package]];
    const std::uint32_t place = next[final_number[one.package]]++;
    if (package.offer_count++ == 0) package.offers = place;
    heads[place] = one.head;
    files[place] = one.file;
  }
  offers.clear();
  offers.shrink_to_fit();
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
    heads.push_back({one.package, name_of(one.package),
                     (one.wanted != 0 ? image::InstalledHead::kWanted : 0) |
                         (one.held != 0 ? image::InstalledHead::kHeld : 0) |
                         (one.essential != 0 ? image::InstalledHead::kEssential : 0),
                     0});
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
        if (of_base && number >= base_relations()) throw DamagedImage();
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

/// What a package is searched by, in the order of SearchField.
void LayerBuilder::Impl::fill_fields(std::size_t i, SearchFields& fields) const {
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
}

/// The words of some packages, once where neighbouring versions say the same.
SearchIndexBuilder LayerBuilder::Impl::words_of(std::size_t first, std::size_t last) const {
  SearchIndexBuilder index;
  SearchFields before, fields;
  if (first > 0 && first < last) fill_fields(first - 1, before);
  for (std::size_t i = first; i < last; ++i) {
    fill_fields(i, fields);
    if (i > 0 && fields == before) continue;
    for (std::uint32_t field = 0; field < fields.size(); ++field)
      index.add(static_cast<std::uint32_t>(base_size() + i), static_cast<SearchField>(field), fields[field]);
    std::swap(before, fields);
  }
  return index;
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

ImagePieces LayerBuilder::finish(std::string_view key) {
  Impl& in = *impl_;
  in.end_adding();
  in.sort_names();
  in.sort_packages();
  if (in.base != nullptr) in.find_positions();
  // Beside the rest, what reads what stands fast by now: about half the words, as this thread has other things to do.
  const std::size_t middle = in.packages.size() * 11 / 20;
  auto first_words = aside([&] { return in.words_of(0, middle); });
  in.write_offers();
  auto providers = in.make_providers();
  in.find_candidates(providers);
  in.write_installed();
  in.write_replacers();
  SearchIndexBuilder last_words = in.words_of(middle, in.packages.size());
  malloc_trim(0);  // what all of this needed for a while
  SearchIndexBuilder::Arrays search = first_words.get().finish(last_words);
  in.keep(Section::Words, std::move(search.words));
  in.keep(Section::WordRecords, std::move(search.records));
  in.keep(Section::Postings, std::move(search.postings));
  in.keep(Section::ProviderStarts, starts_of(providers, in.base_names() + in.names.size()));
  in.keep(Section::Providers, std::move(providers));
  if (in.base == nullptr) {
    in.keep(Section::NameStarts, starts_of(in.packages, in.names.size()));
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
  in.keep(Section::Text, in.texts.take());
  for (TextPile* const pile : {&in.summaries, &in.descriptions})
    pile->hand_over([&](std::string bytes) { in.keep(Section::Text, std::move(bytes)); });
  ImagePieces image = in.image.finish(key);
  const Layer* const base = in.base;
  impl_ = std::make_unique<Impl>();
  impl_->base = base;
  return image;
}

}  // namespace hambrel
