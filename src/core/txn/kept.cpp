#include "txn/kept.h"

#include <fmt/format.h>

#include "base/parallel.h"
#include "txn/configuration.h"
#include "txn/stage_names.h"

namespace hambrel::txn {

using state::MoveKind;

std::string attic_of(const state::State& state, state::TxnId id) {
  for (auto by = state.undone_by(id); by; by = state.undone_by(id)) id = *by;
  return fmt::format("{}/{}", kAttic, number(id));
}

Kept::Kept(os::FileReader& root, const state::State& state, state::TxnId since) : root_(root) {
  bool certain = true;
  for (std::int64_t id = number(since) + 1; id < number(state.next_id()); ++id) {
    const auto entry = state.ledger_entry(state::TxnId{id});
    if (!entry || entry->result != "done") continue;
    if (state.given_up(entry->id)) certain = false;
    const SharedText attic = attic_of(state, entry->id);
    for (const state::Move& move : state.moves_of(entry->id))
      if (move.kind != MoveKind::Attributes)
        places_[move.path].push_back({move.home, attic, move.place, move.inode_old, move.kind, certain});
  }
}

std::string Kept::Place::path() const { return fmt::format("{}/{}/{}", home, attic, place); }

void Kept::look_for(const std::vector<std::pair<FileEntry, std::string>>& wanted, unsigned workers) {
  constexpr std::size_t kFew = 16;
  if (places_.empty()) return;
  std::vector<std::optional<std::string>> places(wanted.size());
  in_portions(wanted.size(), workers, kFew, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) places[i] = search(wanted[i].first, wanted[i].second);
  });
  for (std::size_t i = 0; i < wanted.size(); ++i)
    known_[wanted[i].first.path] = {wanted[i].first.digest, wanted[i].second, std::move(places[i])};
}

std::optional<std::string> Kept::find(const FileEntry& entry, std::string_view home) const {
  if (const auto known = known_.find(entry.path);
      known != known_.end() && known->second.digest == entry.digest && known->second.home == home)
    return known->second.place;
  return search(entry, home);
}

std::vector<std::string> Kept::places_like(const FileEntry& entry, std::string_view home) const {
  std::vector<std::string> places;
  visit(entry, home, [&](const std::string& at) {
    places.push_back(at);
    return false;
  });
  return places;
}

std::optional<std::string> Kept::search(const FileEntry& entry, std::string_view home) const {
  std::optional<std::string> place;
  visit(entry, home, [&](const std::string& at) {
    if (root_.digest(at) == entry.digest) place = at;
    return place.has_value();
  });
  return place;
}

void Kept::visit(const FileEntry& entry, std::string_view home,
                 const std::function<bool(const std::string&)>& is_it) const {
  for (std::string_view top = entry.path; !top.empty(); top = os::parent_of(top)) {
    const auto found = places_.find(top);
    if (found == places_.end()) continue;
    for (const Place& place : found->second) {
      if (place.home != home) continue;
      const std::string at = place.path() + entry.path.substr(top.size());
      const auto info = root_.stat(at);
      if (info && info->type == os::FileType::Regular && info->size == entry.size && is_it(at)) return;
    }
  }
}

std::optional<std::string> Kept::find_configuration(const FileEntry& entry, std::string_view home) const {
  for (std::string_view top = entry.path; !top.empty(); top = os::parent_of(top)) {
    const auto found = places_.find(top);
    if (found == places_.end() || found->second.front().kind == MoveKind::Place) continue;
    const auto place = place_of(std::string(top), found->second.front().inode);
    const std::string at = place ? *place + entry.path.substr(top.size()) : "";
    const auto info = place ? root_.stat(at) : std::nullopt;
    if (!info || info->type != os::FileType::Regular) continue;
    if (found->second.front().certain) return at;
    const Digest digest = root_.digest(at);
    if (digest == entry.digest || !find_pristine(root_, digest)) return at;
  }
  return find(entry, home);
}

std::map<std::string, Kept::First> Kept::first_moves_in(std::string_view directory) const {
  std::map<std::string, First> result;
  for (const auto& [path, places] : places_) {
    if (path != directory && !os::is_below(path, directory)) continue;
    bool below = false;
    for (std::string_view above = os::parent_of(path); !above.empty() && !below; above = os::parent_of(above))
      below = result.contains(std::string(above));
    if (!below) result.emplace(path.string(), First{places.front().kind, places.front().home, places.front().inode});
  }
  return result;
}

std::optional<std::string> Kept::find_content(const std::string& path, const Digest& digest) const {
  for (std::string_view top = path; !top.empty(); top = os::parent_of(top)) {
    const auto found = places_.find(top);
    if (found == places_.end()) continue;
    for (const Place& place : found->second) {
      const std::string at = place.path() + path.substr(top.size());
      const auto info = root_.stat(at);
      if (info && info->type == os::FileType::Regular && root_.digest(at) == digest) return at;
    }
  }
  return std::nullopt;
}

std::optional<std::string> Kept::place_of(const std::string& path, std::uint64_t inode) const {
  const auto found = places_.find(path);
  if (found == places_.end()) return std::nullopt;
  for (const Place& place : found->second)
    if (const auto info = root_.stat(place.path()); info && info->inode == inode) return place.path();
  return std::nullopt;
}

}  // namespace hambrel::txn
