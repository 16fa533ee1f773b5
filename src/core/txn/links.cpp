#include "txn/links.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "txn/extra_puts.h"

namespace hambrel::txn {

using state::Generated;
using state::MoveKind;

void add_candidates(Candidates& all, const std::string& package, const Actions& actions) {
  for (const Candidacy& one : actions.candidates) {
    auto& list = all[one.link.path];
    list.push_back({one.link.path, one.link.file, package, one.rank, one.with});
    std::sort(list.begin(), list.end(), [](const LinkCandidate& a, const LinkCandidate& b) {
      return std::tie(b.rank, a.package, a.file) < std::tie(a.rank, b.package, b.file);
    });
  }
}

const LinkCandidate& serving(const std::vector<LinkCandidate>& of_path,
                             const std::map<std::string, std::string>& picks) {
  HAMBREL_ASSERT(!of_path.empty(), "somebody is a candidate");
  if (const auto pick = picks.find(of_path.front().path); pick != picks.end())
    for (const LinkCandidate& one : of_path)
      if (one.file == pick->second) return one;
  return of_path.front();
}

std::string link_target(const std::string& path, const std::string& file) {
  std::string_view from = os::parent_of(path), to = file;
  // what both have in common at their beginning
  for (;;) {
    const auto first = from.substr(0, from.find('/'));
    if (first.empty() || to.substr(0, to.find('/')) != first || to.size() == first.size()) break;
    from.remove_prefix(std::min(from.size(), first.size() + 1));
    to.remove_prefix(first.size() + 1);
  }
  std::string target;
  if (!from.empty()) {
    const auto levels = std::count(from.begin(), from.end(), '/') + 1;
    for (std::ptrdiff_t i = 0; i < levels; ++i) target += "../";
  }
  return target + std::string(to);
}

namespace {

using Wanted = std::map<std::string, std::pair<std::string, const LinkCandidate*>>;  // by path: the file, and whose

Wanted wanted_links(const Candidates& all, const std::map<std::string, std::string>& picks) {
  Wanted wanted;
  for (const auto& [path, list] : all) {
    const LinkCandidate& chosen = serving(list, picks);
    wanted.emplace(path, std::pair(chosen.file, &chosen));
    for (const Candidacy::Link& one : chosen.with) wanted.emplace(one.path, std::pair(one.file, &chosen));
  }
  return wanted;
}

}  // namespace

std::vector<std::string> links_without(const state::State& state, const Candidates& all) {
  const Wanted wanted = wanted_links(all, state.picks());
  std::vector<std::string> gone;
  for (const Generated& one : state.generated()) {
    const auto below = wanted.lower_bound(one.entry.path + "/");
    const bool used =
        wanted.contains(one.entry.path) || (below != wanted.end() && os::is_below(below->first, one.entry.path));
    if (one.program == state::kCandidates && !used) gone.push_back(one.entry.path);
  }
  return gone;
}

namespace {

class Links {
 public:
  Links(os::FileReader& root, const state::State& state, Planned& planned)
      : root_(root), state_(state), planned_(planned), puts_(root, planned.tree) {
    picks_ = state.picks();
    for (const state::PickChange& one : planned.picks) picks_[one.path] = one.after;
  }

  void run(const Candidates& all) {
    for (const auto& [path, choice] : wanted_links(all, picks_)) lead(path, choice.first, *choice.second);
    for (const std::string& path : puts_.made())
      if (!state_.generated_at(path)) record(path, std::nullopt, directory(path));
    for (const std::string& path : links_without(state_, all)) drop(path);
  }

 private:
  /// Where a link leads that stands there; empty: none does.
  std::string link_at(const std::string& path) {
    const auto info = root_.stat(path);
    return info && info->type == os::FileType::Symlink ? root_.read_link(path) : std::string();
  }

  /// What an undo would bring back from the attic.
  auto move_of(const std::string& path) {
    return std::find_if(planned_.moves.begin(), planned_.moves.end(),
                        [&](const state::Move& one) { return one.path == path; });
  }
  bool is_undo() const { return !planned_.attic.empty(); }

  std::string link_then(const std::string& path) {
    const auto move = move_of(path);
    if (move == planned_.moves.end()) return link_at(path);
    if (move->kind != MoveKind::Place && move->kind != MoveKind::Exchange) return {};
    const std::string place = fmt::format("{}/{}/{}", move->home, planned_.attic, move->place);
    return link_at(place);
  }

  void lead(const std::string& path, const std::string& file, const LinkCandidate& chosen) {
    const std::string target = link_target(path, file), now = link_at(path);
    const auto recorded = state_.generated_at(path);
    const bool picked_now = std::any_of(planned_.picks.begin(), planned_.picks.end(),
                                        [&](const auto& one) { return one.path == chosen.path; });
    // somebody has led it elsewhere by hand
    if (!picked_now && recorded && !now.empty() && now != recorded->entry.target) return;
    if ((is_undo() ? link_then(path) : now) != target) {
      require_nobodys(path, chosen);
      if (is_undo())
        make_anew(path, target);
      else
        put(path, target, chosen);
    }
    record(path, recorded, made(path, target, chosen));
    tell(path, now, file, chosen, recorded);
  }

  void require_nobodys(const std::string& path, const LinkCandidate& chosen) {
    const auto refuse = [&](const std::string& owner) {
      throw Error(ErrorCode::Refused,
                  fmt::format("{} is a candidate for this path, which belongs to {}", chosen.package, owner),
                  "/" + path, fmt::format("remove {} first, or leave out {}", owner, chosen.package));
    };
    if (const Put* const coming = puts_.at(path); coming != nullptr && coming->package != Put::npos)
      refuse(planned_.sources.at(coming->package).package.name);
    std::set<std::int64_t> leaving;
    for (const plan::Step& step : planned_.plan.steps)
      for (const state::StatePackage& one : state_.installed())
        if (one.package.name == step.name && one.package.version.text() == step.before && !step.only_state())
          leaving.insert(one.row);
    if (const auto owner = state_.owner_of(path, leaving); owner) refuse(owner->package_name);
  }

  void put(const std::string& path, const std::string& target, const LinkCandidate& chosen) {
    if (const auto info = root_.stat(path); info && info->type != os::FileType::Symlink) {
      if (info->type == os::FileType::Directory)
        throw Error(ErrorCode::Refused,
                    fmt::format("{} is a candidate for this path, which is a directory here", chosen.package),
                    "/" + path, "move it away, then run the command again");
      planned_.plan.notices.push_back({plan::Notice::Kind::Unowned, path, chosen.package});
    }
    FileEntry entry;
    entry.path = path;
    entry.type = EntryType::Symlink;
    entry.mode = 0777;
    entry.target = target;
    puts_.add(entry);
  }

  void make_anew(const std::string& path, const std::string& target) {
    if (const auto move = move_of(path); move != planned_.moves.end()) planned_.moves.erase(move);
    if (link_at(path) != target) planned_.contents.push_back({path, target, true, false});
  }

  static Generated directory(const std::string& path) {
    Generated one;
    one.program = state::kCandidates;
    one.entry.path = path;
    one.entry.type = EntryType::Directory;
    one.entry.mode = 0755;
    one.entry.user = one.entry.group = "0";
    return one;
  }

  /// No candidate is left.
  void drop(const std::string& path) {
    const auto recorded = state_.generated_at(path);
    HAMBREL_ASSERT(recorded && recorded->program == state::kCandidates, "only links of candidates go with them");
    if (recorded->entry.type == EntryType::Directory) {
      if (!is_undo()) record(path, recorded, std::nullopt);  // it goes if it is empty then
      return;
    }
    const std::string now = link_at(path);
    if (is_undo()) {
      const auto move = move_of(path);
      if (move != planned_.moves.end() && !was_link(path)) return;  // what stood there before comes back
      if (move != planned_.moves.end()) planned_.moves.erase(move);
      if (now == recorded->entry.target) planned_.contents.push_back({path, "", true, true});
    } else if (now == recorded->entry.target && puts_.at(path) == nullptr) {
      puts_.remove(path);
    }
    record(path, recorded, std::nullopt);
    if (now == recorded->entry.target)
      planned_.plan.links.push_back({path, recorded->entry.target, "", recorded->package, false, ""});
  }

  /// Does the attic only have an earlier link there?
  bool was_link(const std::string& path) const {
    HAMBREL_ASSERT(planned_.undo_of, "an undo is of something");
    const auto changes = state_.generated_changes_of(*planned_.undo_of);
    return std::any_of(changes.begin(), changes.end(), [&](const state::GeneratedChange& one) {
      return one.path == path && one.before && one.before->program == state::kCandidates;
    });
  }

  static Generated made(const std::string& path, const std::string& target, const LinkCandidate& chosen) {
    Generated one;
    one.package = chosen.package;
    one.program = state::kCandidates;
    one.entry.path = path;
    one.entry.type = EntryType::Symlink;
    one.entry.mode = 0777;
    one.entry.user = one.entry.group = "0";
    one.entry.target = target;
    return one;
  }

  void record(const std::string& path, const std::optional<Generated>& before, std::optional<Generated> after) {
    std::erase_if(planned_.generated, [&](const state::GeneratedChange& one) { return one.path == path; });
    if (before && after && text_of(*before) == text_of(*after)) return;
    planned_.generated.push_back({path, before, std::move(after)});
    std::sort(planned_.generated.begin(), planned_.generated.end(),
              [](const auto& a, const auto& b) { return a.path < b.path; });
  }

  void tell(const std::string& path, const std::string& now, const std::string& file, const LinkCandidate& chosen,
            const std::optional<Generated>& recorded) {
    if (path != chosen.path) return;  // it follows
    const auto pick = picks_.find(path);
    const bool has_pick = pick != picks_.end() && !pick->second.empty();
    const bool picked = has_pick && pick->second == file;
    if (now == link_target(path, file) && planned_.picks.empty()) return;
    planned_.plan.links.push_back(
        {path, recorded ? now : "", file, chosen.package, picked, has_pick && !picked ? pick->second : std::string()});
  }

  os::FileReader& root_;
  const state::State& state_;
  Planned& planned_;
  ExtraPuts puts_;
  std::map<std::string, std::string> picks_;
};

}  // namespace

void plan_links(os::FileReader& root, const state::State& state, const Candidates& all, Planned& planned) {
  Links(root, state, planned).run(all);
}

}  // namespace hambrel::txn
