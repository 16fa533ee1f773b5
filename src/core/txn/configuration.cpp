#include "txn/configuration.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <map>
#include <optional>

#include "base/assert.h"
#include "base/error.h"

namespace hambrel::txn {

using os::FileType;
using plan::ConfigAction;
using plan::ConfigStep;
using plan::Notice;
using OutcomeKind = ConfigRules::Outcome::Kind;

namespace {

constexpr const char* kAccessList = "system.posix_acl_access";

}  // namespace

std::string waiting_place(const std::string& path) { return fmt::format("{}/{}", kWaiting, path); }
std::string base_place(const std::string& path) { return fmt::format("{}/{}", kBase, path); }
std::string pristine_place(const Digest& digest) { return fmt::format("{}/{}", kPristine, digest.hex()); }

std::optional<std::string> find_pristine(os::FileReader& root, const Digest& digest) {
  const std::string place = pristine_place(digest);
  const auto info = root.stat(place);
  if (!info || info->type != FileType::Regular || root.digest(place) != digest) return std::nullopt;
  return place;
}

std::string_view text_of(ConfigState state) {
  switch (state) {
    case ConfigState::Pristine: return "pristine";
    case ConfigState::Edited: return "edited";
    case ConfigState::Missing: return "missing";
    case ConfigState::Waiting: return "waiting";
    case ConfigState::Leftover: return "leftover";
  }
  return "";
}

namespace {

/// By content; where this user may not read it, by size and time.
bool is_pristine(os::FileReader& root, const os::FileInfo& info, const FileEntry& entry) {
  if (info.type != FileType::Regular || info.size != entry.size) return false;
  try {
    return root.digest(entry.path) == entry.digest;
  } catch (const Error& problem) {
    if (problem.code() != ErrorCode::Io) throw;
    return info.mtime_seconds == entry.mtime;
  }
}

}  // namespace

std::vector<ConfigFile> configuration_files(os::FileReader& root, const state::State& state) {
  const state::State::ReadTransaction still(state);
  std::vector<ConfigFile> files;
  std::set<std::string> seen;
  std::vector<state::StatePackage> here = state.installed();
  for (state::StatePackage& one : state.shelved()) here.push_back(std::move(one));
  for (const state::StatePackage& package : here)
    for (const FileEntry& entry : state.configuration_of(package.row)) {
      if (!seen.insert(entry.path).second) continue;
      const auto info = root.stat(entry.path);
      ConfigFile file{entry.path, package, entry, ConfigState::Edited, {}};
      if (!info)
        file.state = ConfigState::Missing;
      else if (is_pristine(root, *info, entry))
        file.state = ConfigState::Pristine;
      else if (root.stat(waiting_place(file.path)))
        file.state = ConfigState::Waiting;
      files.push_back(std::move(file));
    }
  for (const state::Replaced& one : state.replaced_with_configuration())  // those that left last come first
    for (FileEntry& entry : state.configuration_of(one.package.row)) {
      if (!seen.insert(entry.path).second || state.may_be_owned(entry.path)) continue;
      const auto info = root.stat(entry.path);
      if (!info || info->type != FileType::Regular) continue;
      std::string path = entry.path;
      files.push_back({std::move(path), one.package, std::move(entry), ConfigState::Leftover, one.left});
    }
  std::sort(files.begin(), files.end(), [](const auto& a, const auto& b) { return a.path < b.path; });
  return files;
}

std::vector<std::pair<std::string, ByteCount>> idle_pristine(os::FileReader& root, const state::State& state,
                                                             const std::vector<ConfigFile>& files) {
  std::vector<std::pair<std::string, ByteCount>> idle;
  if (!root.stat(kPristine) || state.prepared()) return idle;
  std::set<std::string> needed;
  for (const ConfigFile& file : files) needed.insert(file.entry.digest.hex());
  const state::State::ReadTransaction still(state);
  for (const state::Replaced& one : state.replaced_with_configuration())
    if (!state.given_up(one.left))
      for (const FileEntry& entry : state.configuration_of(one.package.row)) needed.insert(entry.digest.hex());
  for (const std::string& name : root.list(kPristine)) {
    const std::string place = os::join_path(kPristine, name);
    const auto info = root.stat(place);
    if (!needed.contains(name) && info && info->type == FileType::Regular) idle.emplace_back(place, info->size);
  }
  return idle;
}

namespace {

/// Which lost default became which fresh one: round by round, those that are left.
class MovedDefaults {
 public:
  MovedDefaults(const std::vector<ConfigDefault>& lost, const std::vector<ConfigDefault>& fresh)
      : lost_(lost), fresh_(fresh) {
    for (std::size_t i = 0; i < lost.size(); ++i) lost_at_.emplace(lost[i].path, i);
    for (std::size_t k = 0; k < fresh.size(); ++k) fresh_at_.emplace(fresh[k].path, k);
  }

  /// Those that alone have a key, on each side.
  template <typename KeyOf>
  void pair_by(KeyOf key_of) {
    struct Sharing {
      std::vector<std::size_t> lost, fresh;
    };
    std::map<decltype(key_of(lost_.front())), Sharing> by_key;
    for (const auto& [path, i] : lost_at_) by_key[key_of(lost_[i])].lost.push_back(i);
    for (const auto& [path, k] : fresh_at_) by_key[key_of(fresh_[k])].fresh.push_back(k);
    for (const auto& [key, sharing] : by_key)
      if (sharing.lost.size() == 1 && sharing.fresh.size() == 1) pair(sharing.lost.front(), sharing.fresh.front());
  }

  /// Those that alone are above or below each other.
  void pair_by_place() {
    for (std::size_t i = 0; i < lost_.size(); ++i) {
      if (!lost_at_.contains(lost_[i].path)) continue;
      const std::optional<std::size_t> k = only_near(fresh_at_, lost_[i].path);
      if (k && only_near(lost_at_, fresh_[*k].path) == i) pair(i, *k);
    }
  }

  std::vector<std::pair<std::size_t, std::size_t>> pairs;

 private:
  using ByPath = std::map<std::string_view, std::size_t>;

  void pair(std::size_t i, std::size_t k) {
    pairs.emplace_back(i, k);
    lost_at_.erase(lost_[i].path);
    fresh_at_.erase(fresh_[k].path);
  }

  /// What is above a path, or below it: nothing where there are several.
  static std::optional<std::size_t> only_near(const ByPath& by_path, std::string_view path) {
    std::optional<std::size_t> found;
    for (std::string_view above = os::parent_of(path); !above.empty(); above = os::parent_of(above)) {
      const auto at = by_path.find(above);
      if (at == by_path.end()) continue;
      if (found) return std::nullopt;
      found = at->second;
    }
    for (auto at = by_path.upper_bound(std::string(path) + "/"); at != by_path.end(); ++at) {
      if (!os::is_below(at->first, path)) break;
      if (found) return std::nullopt;
      found = at->second;
    }
    return found;
  }

  const std::vector<ConfigDefault>& lost_;
  const std::vector<ConfigDefault>& fresh_;
  ByPath lost_at_, fresh_at_;  // by number, of those that are left
};

}  // namespace

std::vector<std::pair<std::size_t, std::size_t>> moved_defaults(const std::vector<ConfigDefault>& lost,
                                                                const std::vector<ConfigDefault>& fresh) {
  MovedDefaults moved(lost, fresh);
  moved.pair_by([](const ConfigDefault& one) { return one.digest; });
  moved.pair_by([](const ConfigDefault& one) { return os::name_of(one.path); });
  moved.pair_by_place();
  return std::move(moved.pairs);
}

os::ExtendedAttributes own_attributes(os::FileReader& root, const std::string& path) {
  os::ExtendedAttributes own = root.attributes(path);
  std::erase_if(own, [](const auto& one) {
    return !one.first.starts_with("user.") && one.first != "security.capability" && one.first != kAccessList;
  });
  return own;
}

/// What comes, with mode, owner and attributes as they stand on the disk.
FileEntry ConfigRules::with_marks_of(const Case& one) const {
  FileEntry marked = *one.coming;
  if (!one.disk || one.disk->type != FileType::Regular) return marked;
  marked.mode = one.disk->mode;
  marked.user = std::to_string(one.disk->uid);
  marked.group = std::to_string(one.disk->gid);
  marked.attributes = own_attributes(root_, one.from.empty() ? one.path : one.from);
  return marked;
}

/// C3.2
ConfigRules::Outcome ConfigRules::pristine(const Case& one) {
  Outcome outcome;
  outcome.asides = Asides::Drop;
  HAMBREL_ASSERT(one.before && one.disk, "it stands as it came");
  const FileEntry &before = *one.before, &coming = *one.coming;
  const bool as_before = before.digest == coming.digest && before.mode == coming.mode && before.user == coming.user &&
                         before.group == coming.group && before.attributes == coming.attributes;
  if (as_before && one.from.empty()) {
    outcome.kind = OutcomeKind::Leave;
    return outcome;
  }
  if (one.from_kept) return outcome;
  if (!owners_) owners_.emplace(root_);
  const auto owner = owners_->find(before);
  const bool chowned = owner && (owner->uid != one.disk->uid || owner->gid != one.disk->gid);
  const auto own = own_attributes(root_, one.from.empty() ? one.path : one.from);
  const auto list = own.find(kAccessList);
  if (!chowned && one.disk->mode == before.mode && list == own.end()) return outcome;
  outcome.kind = OutcomeKind::Write;
  outcome.entry = coming;
  if (list != own.end()) outcome.entry.attributes.insert(*list);
  if (one.disk->mode != before.mode) outcome.entry.mode = one.disk->mode;
  if (chowned) {
    outcome.entry.user = std::to_string(one.disk->uid);
    outcome.entry.group = std::to_string(one.disk->gid);
  }
  return outcome;
}

/// The administrator's version, on its way to where the default is now.
ConfigRules::Outcome ConfigRules::carried(const Case& one, const Digest& now) const {
  HAMBREL_ASSERT(one.disk && !one.from.empty(), "what is carried stands somewhere else");
  Outcome outcome;
  outcome.kind = OutcomeKind::Write;
  outcome.entry = with_marks_of(one);
  outcome.entry.size = one.disk->size;
  outcome.entry.mtime = one.disk->mtime_seconds;
  outcome.entry.digest = now;
  outcome.kept = one.from;
  outcome.leaves_from = true;
  return outcome;
}

/// What a leftover began from: the newest version of its package that had the path.
std::optional<Digest> ConfigRules::base_of_leftover(const Case& one) {
  if (!replaced_) replaced_ = state_.replaced_with_configuration();
  for (const state::Replaced& old : *replaced_) {
    if (old.package.package.name != one.package) continue;
    for (const FileEntry& entry : state_.configuration_of(old.package.row))
      if (entry.path == one.path) return entry.digest;
  }
  return std::nullopt;
}

ConfigRules::Outcome ConfigRules::judge(const Case& one) {
  Outcome outcome;
  std::optional<Digest> was = one.before ? std::optional(one.before->digest) : std::nullopt;
  if (!one.disk) {
    if (!was && !one.from_shelf) return outcome;
    notices.push_back({Notice::Kind::ConfigStaysAway, one.path, one.package});
    outcome.kind = OutcomeKind::Leave;
    outcome.asides = Asides::Drop;
    return outcome;
  }
  if (one.disk->type == FileType::Directory) return outcome;
  std::optional<Digest> now;
  if (one.disk->type == FileType::Regular) {
    now = root_.digest(one.from.empty() ? one.path : one.from);
    if (was && now == was) return pristine(one);
    if (now == one.coming->digest) {
      outcome.asides = Asides::Drop;
      outcome.leaves_from = !one.from.empty();
      if (one.from.empty()) outcome.kind = OutcomeKind::Leave;
      return outcome;
    }
  } else if (!one.from.empty()) {
    return outcome;  // a link does not follow; it stays as a leftover
  }
  if (!was) was = base_of_leftover(one);
  const std::string mine = one.from.empty() ? one.path : one.from, aside = base_place(mine);
  const bool had_base = root_.stat(aside).has_value();
  const bool back = had_base && root_.digest(aside) == one.coming->digest;  // to what the edits began from
  if (was == one.coming->digest || back || one.from_kept) {
    const bool another = (back || one.from_kept) && !one.from_shelf;  // than the version that waits
    if (one.from.empty()) {
      notices.push_back({Notice::Kind::ConfigKept, one.path, one.package});
      outcome.kind = OutcomeKind::Leave;
      if (another) outcome.asides = Asides::Drop;
      return outcome;
    }
    steps.push_back({ConfigAction::Carry, one.path, one.package, one.from, std::nullopt, now});
    return carried(one, *now);
  }
  const auto kept = was ? find_pristine(root_, *was) : std::nullopt;
  return settle(one, now,
                {one.path, one.package, mine, had_base ? aside : kept.value_or(""), *one.coming, one.package_index});
}

/// C3.5
ConfigRules::Outcome ConfigRules::settle(const Case& one, const std::optional<Digest>& now, Conflict conflict) {
  const auto chosen = choices_.find(one.path);
  const Choice choice = chosen == choices_.end() ? Choice{} : chosen->second;
  const bool moves = !one.from.empty();
  ConfigStep step{choice.action, one.path, one.package, one.from, moves ? std::nullopt : now, now};
  Outcome outcome;
  outcome.asides = Asides::Drop;
  outcome.leaves_from = moves;
  switch (choice.action) {
    case ConfigAction::Take: step.after = one.coming->digest; break;
    case ConfigAction::Merge:
    case ConfigAction::Edit:
      outcome.kind = OutcomeKind::Write;
      outcome.entry = with_marks_of(one);
      outcome.entry.size = choice.content.size();
      step.after = outcome.entry.digest = sha256(choice.content);
      outcome.content = choice.content;
      break;
    default:
      outcome.kind = OutcomeKind::Leave;
      if (moves) outcome = carried(one, *now);
      outcome.asides = choice.action == ConfigAction::Keep ? Asides::Drop : Asides::Wait;
      outcome.base = conflict.base;
  }
  steps.push_back(std::move(step));
  conflicts.push_back(std::move(conflict));
  return outcome;
}

}  // namespace hambrel::txn
