#include "operations/kept_list.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/checksum.h"
#include "base/text.h"

namespace hambrel::operations {

namespace {

constexpr std::string_view kListFormat = "listing 1 " HAMBREL_VERSION;
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

/// What the kept text depends on. `state`: state::identity_of().
std::string key_of(const Layer& base, std::string_view state, const View& view) {
  std::string key =
      fmt::format("{}\n{} upon {:016x}\n{}\n", kListFormat, state, base.stamp(), join(view.architectures, " "));
  for (const View::Repository& one : view.repositories)
    key += fmt::format("{} {} {} {}\n", one.name, one.enabled, one.rank, join(one.channels, " "));
  for (const auto& [name, channel] : view.follows) key += fmt::format("{} follows {}\n", name, channel);
  return key;
}

}  // namespace

std::optional<KeptList> KeptList::open(Root& root) {
  const std::string identity = root.identity();
  if (identity.empty()) return std::nullopt;
  const View through = root.view();
  return open(root.files(), key_of(*root.catalog().base, identity, through), through.now);
}

void KeptList::renew(Root& root, const std::function<std::string(const Universe&)>& text_of) {
  try {
    const auto seen = root.renew_overlay();
    if (!seen) return;
    const View through = root.view();
    const std::string key = key_of(*root.catalog().base, state::identity_of(root.files(), kStateFile), through);
    if (!open(root.files(), key, through.now)) keep(root.files(), key, *seen, text_of(*seen));
  } catch (...) {
    const Error problem = current_error();
    root.observer().note(
        fmt::format("the list of installed packages could not be cached, so listing takes longer: {}: {}",
                    problem.where(), problem.problem()));
  }
}

// sum, "KEY-SIZE END\n", key, text
void KeptList::keep(os::FileSystem& root, const std::string& key, const Universe& universe, const std::string& text) {
  const std::string rest = fmt::format("{} {}\n{}", key.size(), next_end(universe), key) + text;
  root.replace_cache(kListFile, sum_of(rest) + rest, 0644);
}

std::optional<KeptList> KeptList::open(os::FileReader& root, const std::string& key, std::int64_t now) {
  const auto info = root.stat(kListFile);
  if (!info || info->type != os::FileType::Regular || info->size <= kSum) return std::nullopt;
  auto file = root.map(kListFile);
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
  return KeptList(std::move(file), body.substr(key.size()));
}

}  // namespace hambrel::operations
