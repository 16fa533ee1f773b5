#include "txn/invariants.h"

#include <fmt/format.h>

#include "base/text.h"
#include "txn/staging_homes.h"

namespace hambrel::txn {

using state::Move;
using state::MoveKind;

namespace {

class Inspection {
 public:
  Inspection(os::FileReader& root, const state::State& state, std::optional<state::TxnId> staging)
      : root_(root), state_(state), staging_(staging) {}

  std::vector<std::string> run() {
    const auto journal = state_.journal();
    if (journal)
      standing(*journal);
    else
      settled();
    stages(journal ? std::optional(journal->id) : std::nullopt);
    return std::move(broken_);
  }

 private:
  template <typename... Values>
  void broken(fmt::format_string<Values...> text, Values&&... values) {
    broken_.push_back(fmt::format(text, std::forward<Values>(values)...));
  }

  std::uint64_t inode_at(std::string_view path) {
    const auto info = root_.stat(path);
    return info ? info->inode : 0;
  }

  /// I2, I3, I4 while a journal stands.
  void standing(const state::Journal& journal) {
    if (state_.ledger_entry(journal.id)) broken("I4: the ledger speaks of {} already", number(journal.id));
    bool undone_before = false;
    for (const Move& move : journal.moves) {
      if (move.kind == MoveKind::Attributes) continue;
      const std::string place = fmt::format("{}/{}/{}", move.home, journal.directory, move.place);
      const std::uint64_t here = inode_at(move.path), there = inode_at(place);
      const std::uint64_t fresh = move.inode_new, old = move.inode_old;
      const bool undone = here == (move.kind == MoveKind::Place ? 0 : old) && there == fresh;
      const bool done = here == fresh && there == old;
      if (!done && !undone) broken("I3: /{} is neither moved nor not", move.path);
      if (done && undone_before) broken("I3: /{} was moved before its turn", move.path);
      undone_before = undone_before || !done;
      const auto parent = root_.stat_followed(existing_directory(root_, os::parent_of(move.path)));
      const auto home = root_.stat_followed(move.home);
      if (!parent || !home || parent->mount != home->mount) broken("I3: /{} leads from mount to mount", move.path);
    }
  }

  /// I5 for the last transaction.
  void settled() {
    const auto last = state_.ledger(1);
    if (last.empty() || last[0].result != "done") return;
    const state::LedgerEntry& entry = last[0];
    for (const Move& move : state_.moves_of(entry.id)) {
      if (move.kind == MoveKind::Attributes || move.kind == MoveKind::Place) continue;
      bool kept = false;  // in its attic, or where it was in the moment of the commit
      for (const std::string& directory :
           {fmt::format("attic/{}", number(entry.id)), fmt::format("stage/{}", number(entry.id)),
            fmt::format("stage/prepared-{}", state_.next_prepared() - 1),
            entry.undo_of ? fmt::format("attic/{}", number(*entry.undo_of)) : std::string("attic/none")})
        kept = kept || inode_at(fmt::format("{}/{}/{}", move.home, directory, move.place)) == move.inode_old;
      if (!kept) broken("I5: what stood at /{} before {} is lost", move.path, number(entry.id));
    }
  }

  /// I6 from the other side: no stage lies about that nobody needs.
  void stages(std::optional<state::TxnId> standing) {
    for (const std::string& home : StagingHomes::all(root_)) {
      const std::string all = home + "/stage";
      if (!root_.stat(all)) continue;
      for (const std::string& name : root_.list(all)) {
        const auto is = [&](std::optional<state::TxnId> id) { return id && name == std::to_string(number(*id)); };
        const auto last = state_.ledger(1);
        if (name.starts_with("prepared-")) {
          const auto number = parse_number(name.substr(name.find('-') + 1));
          const bool making = staging_.has_value();
          if (!making && !(number && state_.fate_of_prepared(static_cast<std::int64_t>(*number))))
            broken("I6: /{}/{} was never prepared", all, name);
          continue;
        }
        // what programs were shown is dropped while the switch goes on
        constexpr std::string_view kPreview = "preview-";
        const auto preview_of = [&](std::optional<state::TxnId> id) {
          return id && name == fmt::format("{}{}", kPreview, number(*id));
        };
        if (name.starts_with(kPreview) && (preview_of(standing) || preview_of(staging_))) continue;
        if (!is(standing) && !is(staging_) && !(!last.empty() && last[0].result == "done" && is(last[0].id)))
          broken("I6: /{}/{} belongs to no transaction", all, name);
      }
    }
  }

  os::FileReader& root_;
  const state::State& state_;
  std::optional<state::TxnId> staging_;
  std::vector<std::string> broken_;
};

}  // namespace

std::vector<std::string> broken_invariants(os::FileReader& root, const state::State& state,
                                           std::optional<state::TxnId> staging) {
  return Inspection(root, state, staging).run();
}

}  // namespace hambrel::txn
