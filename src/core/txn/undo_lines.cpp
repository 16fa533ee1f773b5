#include "txn/undo_lines.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "rehearsal/accounts.h"

namespace hambrel::txn {

using state::LineChange;
using state::Move;
using state::MoveKind;

namespace {

constexpr std::uint64_t kMost = 16 << 20;  // bytes of one of these files

std::string text_at(os::FileSystem& root, const std::string& path) {
  const auto info = root.stat(path);
  return info && info->type == os::FileType::Regular ? root.read_itself(path, kMost) : std::string();
}

/// As a step of the plan: who goes, or comes again.
void tell(const std::vector<LineChange>& back, plan::Plan& plan) {
  for (const LineChange& one : back) {
    const bool user = one.path == "etc/passwd", group = one.path == "etc/group";
    const bool whole = one.what == LineChange::What::Add || one.what == LineChange::What::Drop;
    if (!whole || !(user || group)) continue;
    const auto fields = split(one.line, ':');
    const auto id = fields.size() > 2 ? parse_number(fields[2]).value_or(0) : 0;
    const std::string name(fields[0]);
    const bool told = std::any_of(plan.accounts.begin(), plan.accounts.end(),
                                  [&](const plan::AccountStep& known) { return known.name == name; });
    if (told && group) continue;
    std::erase_if(plan.accounts, [&](const plan::AccountStep& known) { return known.name == name; });
    plan.accounts.push_back({name, "", user && fields.size() > 4 ? std::string(fields[4]) : std::string(),
                             static_cast<std::uint32_t>(id), group, one.what == LineChange::What::Drop});
  }
}

}  // namespace

std::set<std::string, std::less<>> plan_lines_back(os::FileSystem& root, const state::State& state, state::TxnId id,
                                                   const std::vector<Move>& moves, Planned& undo) {
  std::set<std::string, std::less<>> anew;
  const std::vector<LineChange> done = state.lines_of(id);
  for (auto one = done.rbegin(); one != done.rend(); ++one) undo.lines.push_back(rehearsal::reverse_of(*one));
  tell(undo.lines, undo.plan);
  for (const char* const path : rehearsal::kAccountFiles) {
    const bool ours = std::any_of(done.begin(), done.end(), [&](const LineChange& one) { return one.path == path; });
    const auto move = std::find_if(moves.begin(), moves.end(), [&](const Move& one) {
      return one.path == path && (one.kind == MoveKind::Place || one.kind == MoveKind::Exchange);
    });
    const auto here = root.stat(path);
    if (!ours || move == moves.end() || !here || here->type != os::FileType::Regular) continue;
    const std::string now = text_at(root, path);
    undo.read.emplace(path, sha256(now));
    std::string before, then, back = now;
    if (move->kind == MoveKind::Exchange)
      before = text_at(root, fmt::format("{}/{}/{}/{}", move->home, kAttic, number(id), move->place));
    then = before;
    for (const LineChange& one : done)
      if (one.path == path) then = rehearsal::with(then, one);
    if (then == now) continue;  // nobody edited it since: the file of before comes back as it was
    for (const LineChange& one : undo.lines)
      if (one.path == path) back = rehearsal::with(back, one);
    anew.insert(path);
    if (back != now) undo.contents.push_back({path, std::move(back)});
  }
  return anew;
}

}  // namespace hambrel::txn
