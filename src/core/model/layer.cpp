#include "model/layer.h"

#include <algorithm>

#include "model/layer_sections.h"

namespace hambrel {

Layer::Layer(Image image) : image_(std::move(image)) {
  const auto open = [&](auto& array, Section section) {
    array = std::remove_reference_t<decltype(array)>(image_, static_cast<std::uint32_t>(section));
  };
  open(names_, Section::Names);
  open(text_, Section::Text);
  open(packages, Section::Packages);
  open(uses, Section::Uses);
  open(relations, Section::Relations);
  open(constraints, Section::Constraints);
  open(candidates, Section::Candidates);
  open(details, Section::Details);
  open(offers, Section::Offers);
  open(offer_files, Section::OfferFiles);
  open(places, Section::Places);
  open(architectures, Section::Architectures);
  open(lists, Section::Lists);
  open(words, Section::Words);
  open(word_records, Section::WordRecords);
  open(postings, Section::Postings);
  open(installed, Section::Installed);
  open(providers, Section::Providers);
  open(replacers, Section::Replacers);
  open(installed_heads, Section::InstalledHeads);
  open(against, Section::Against);
  open(name_starts, Section::NameStarts);
  open(provider_starts_, Section::ProviderStarts);
}

void Layer::check_relations() const {
  packages.check_all();
  uses.check_all();
  relations.check_all();
  constraints.check_all();
  candidates.check_all();
  name_starts.check_all();
}

std::optional<std::size_t> Layer::find_name(std::string_view wanted) const {
  std::size_t low = 0, high = names_.size();
  while (low < high) {
    const std::size_t middle = low + (high - low) / 2;
    if (name(middle) < wanted)
      low = middle + 1;
    else
      high = middle;
  }
  if (low == names_.size() || name(low) != wanted) return std::nullopt;
  return low;
}

std::pair<std::size_t, std::size_t> Layer::names_with_prefix(std::string_view prefix) const {
  const auto first_where = [&](auto holds) {
    std::size_t low = 0, high = names_.size();
    while (low < high) {
      const std::size_t middle = low + (high - low) / 2;
      if (holds(name(middle)))
        high = middle;
      else
        low = middle + 1;
    }
    return low;
  };
  return {first_where([&](std::string_view one) { return one >= prefix; }),
          first_where([&](std::string_view one) { return one.substr(0, prefix.size()) > prefix; })};
}

namespace {

template <typename Record>
std::span<const Record> range_of(const Array<Record>& records, NameId name) {
  const auto number = static_cast<std::uint32_t>(name);
  std::size_t low = 0, high = records.size();
  while (low < high) {
    const std::size_t middle = low + (high - low) / 2;
    if (records[middle].name < number)
      low = middle + 1;
    else
      high = middle;
  }
  std::size_t end = low;
  while (end < records.size() && records[end].name == number) ++end;
  return records.slice(low, end - low);
}

}  // namespace

std::span<const image::ProviderRecord> Layer::providers_of(NameId name) const {
  const auto number = static_cast<std::size_t>(name);
  const std::uint32_t first = provider_starts_[number], end = provider_starts_[number + 1];
  if (first > end) throw DamagedImage();
  return providers.slice(first, end - first);
}
std::span<const image::ReplacerRecord> Layer::replacers_of(NameId name) const { return range_of(replacers, name); }
std::span<const image::AgainstRecord> Layer::against_of(NameId name) const { return range_of(against, name); }

}  // namespace hambrel
