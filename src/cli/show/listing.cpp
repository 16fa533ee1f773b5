#include "cli/show/listing.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/checksum.h"
#include "base/text.h"

namespace hambrel::cli {

namespace {

constexpr std::string_view kFormat = "listing 1 " HAMBREL_VERSION;
constexpr std::size_t kSum = 16;  // hex digits, then a line feed

std::string sum_of(std::string_view rest) {
  return fmt::format("{:016x}\n", checksum(reinterpret_cast<const std::byte*>(rest.data()), rest.size()));
}

/// When the first hold ends that counts now; 0: none does.
std::int64_t next_end(const Universe& universe) {
  std::int64_t first = 0;
  for (const PackageId id : universe.installed())
    if (universe.held(id))
      if (const std::int64_t until = universe[id].installed->hold->until; until != 0)
        first = first == 0 ? until : std::min(first, until);
  return first;
}

}  // namespace

void add_listed(Table& table, const Universe& universe, PackageId id) {
  const bool here = universe.is_installed(id), wanted = universe.wanted(id);
  const auto newer = here ? universe.newer_offer(id) : std::nullopt;
  table.row({{universe.name(id), Style::Name},
             {universe.version(id)},
             {newer ? fmt::format("-> {}", universe.version(*newer)) : "", Style::Come},
             {here ? text_of(wanted ? Reason::Wanted : Reason::PulledIn) : std::string_view(),
              wanted ? Style::Plain : Style::Faint},
             {universe.held(id) ? "held" : "", Style::Warn},
             {printable(universe.summary(id)), Style::Faint}});
}

std::string listing_key(const Layer& base, std::string_view state, const View& view) {
  std::string key =
      fmt::format("{}\n{} upon {:016x}\n{}\n", kFormat, state, base.stamp(), join(view.architectures, " "));
  for (const View::Repository& one : view.repositories)
    key += fmt::format("{} {} {} {}\n", one.name, one.enabled, one.rank, join(one.channels, " "));
  for (const auto& [name, channel] : view.follows) key += fmt::format("{} follows {}\n", name, channel);
  return key;
}

// sum, "KEY-SIZE END\n", key, text
void keep_listing(os::FileSystem& root, const std::string& key, const Universe& universe) {
  Table table;
  table.expect(universe.installed().size());
  for (const PackageId id : universe.installed()) add_listed(table, universe, id);
  const std::string rest = fmt::format("{} {}\n{}", key.size(), next_end(universe), key) + table.text();
  root.replace_cache(kListingFile, sum_of(rest) + rest, 0644);
}

std::optional<Listing> Listing::open(os::FileReader& root, const std::string& key, std::int64_t now) {
  const auto info = root.stat(kListingFile);
  if (!info || info->type != os::FileType::Regular || info->size <= kSum) return std::nullopt;
  auto file = root.map(kListingFile);
  const auto data = file->data();
  const std::string_view whole(reinterpret_cast<const char*>(data.data()), data.size());
  const std::string_view rest = whole.substr(std::min(whole.size(), kSum + 1));
  std::size_t size = 0;
  std::int64_t end = 0;
  const char* const last = rest.data() + rest.size();
  const auto first = std::from_chars(rest.data(), last, size);
  if (first.ec != std::errc() || first.ptr == last || *first.ptr != ' ') return std::nullopt;
  const auto second = std::from_chars(first.ptr + 1, last, end);
  if (second.ec != std::errc() || second.ptr == last || *second.ptr != '\n') return std::nullopt;
  const std::string_view body = rest.substr(static_cast<std::size_t>(second.ptr + 1 - rest.data()));
  if (size != key.size() || !body.starts_with(key) || (end != 0 && now >= end) || !whole.starts_with(sum_of(rest)))
    return std::nullopt;
  return Listing(std::move(file), body.substr(key.size()));
}

}  // namespace hambrel::cli
