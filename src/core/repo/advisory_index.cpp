#include "repo/advisory_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/json.h"
#include "repo/notes.h"

namespace hambrel::repo {

namespace {

enum Section : std::uint32_t { kNames, kRecords, kText };

/// Places in the text, in bytes.
struct Place {
  std::uint32_t start, size;
};
/// A package, in the order of the names: which of the records are about it.
struct Name {
  Place name;
  std::uint32_t first, count;
};

constexpr int kAdvisoryFormat = 1;

std::string key_of(const Digest& digest) { return fmt::format("advisories {} {}", kAdvisoryFormat, digest.hex()); }

std::string_view text_at(const Array<char>& text, const Place& place) {
  const auto found = text.slice(place.start, place.size);
  return {found.data(), found.size()};
}

Place append(std::string& text, std::string_view more) {
  const Place place{static_cast<std::uint32_t>(text.size()), static_cast<std::uint32_t>(more.size())};
  text += more;
  return place;
}

}  // namespace

std::string AdvisoryIndex::compile(std::string_view text, const Digest& digest, const std::string& where) {
  const std::vector<Advisory> advisories = parse_advisories(text, where);
  const Json list = parse_json(text, where);
  std::string kept;
  std::map<std::string, std::vector<Place>, std::less<>> by_name;
  for (std::size_t i = 0; i < advisories.size(); ++i) {
    if (advisories[i].withdrawn) continue;
    const Place place = append(kept, canonical(list[i]));
    for (const Advisory::Affected& affected : advisories[i].affected)
      if (auto& records = by_name[affected.name]; records.empty() || records.back().start != place.start)
        records.push_back(place);
  }
  std::vector<Name> names;
  std::vector<Place> records;
  for (const auto& [name, places] : by_name) {
    names.push_back(
        {append(kept, name), static_cast<std::uint32_t>(records.size()), static_cast<std::uint32_t>(places.size())});
    records.insert(records.end(), places.begin(), places.end());
  }
  ImageWriter writer;
  writer.add(kNames, std::move(names));
  writer.add(kRecords, std::move(records));
  writer.add(kText, std::move(kept));
  return writer.finish(key_of(digest)).joined();
}

std::optional<Image> AdvisoryIndex::stored(os::FileReader& root, const std::string& repository, const Digest& digest) {
  const std::string path = cached_advisories(repository, digest);
  if (!root.stat(path)) return std::nullopt;
  auto image = Image::open(root.map(path));
  if (!image || image->key() != key_of(digest)) return std::nullopt;
  try {
    Array<Name>(*image, kNames).check_all();
    Array<Place>(*image, kRecords).check_all();
    Array<char>(*image, kText).check_all();
  } catch (const DamagedImage&) {
    return std::nullopt;
  }
  return image;
}

bool AdvisoryIndex::is_stored(os::FileReader& root, const std::string& repository, const Digest& digest) {
  return stored(root, repository, digest).has_value();
}

std::optional<AdvisoryIndex> AdvisoryIndex::open(os::FileReader& root, const settings::Repository& repository) {
  const auto source = read_source(root, repository);
  if (!source || !source->advisories) return std::nullopt;
  const Digest& digest = source->advisories->digest;
  if (auto image = stored(root, repository.name, digest)) return AdvisoryIndex(std::move(*image));
  const std::string text = text_in_cache(root, repository.name, *source->advisories);
  std::string made = compile(text, digest, root.shown(kIndexCache));
  return AdvisoryIndex(*Image::open(std::make_shared<OwnedBytes>(std::move(made))));
}

std::vector<Advisory> AdvisoryIndex::about(std::string_view package) const {
  const Array<Name> names(image_, kNames);
  const Array<Place> records(image_, kRecords);
  const Array<char> text(image_, kText);
  std::size_t low = 0, high = names.size();
  while (low < high) {
    const std::size_t middle = low + (high - low) / 2;
    if (text_at(text, names[middle].name) < package)
      low = middle + 1;
    else
      high = middle;
  }
  if (low == names.size() || text_at(text, names[low].name) != package) return {};
  std::string list;
  for (const Place& one : records.slice(names[low].first, names[low].count)) {
    list += list.empty() ? "[" : ",";
    list += text_at(text, one);
  }
  return parse_advisories(list + "]", "the compiled advisories");
}

}  // namespace hambrel::repo
