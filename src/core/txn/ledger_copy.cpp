#include "txn/ledger_copy.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace hambrel::txn {

namespace {

constexpr std::uint64_t kMostBytes = 256 << 20;  // of one entry

std::string path_of(std::int64_t id) { return fmt::format("{}/{}.json", kLedgerCopy, id); }

/// Is the entry there, whole?
bool stands(os::FileReader& root, const state::LedgerEntry& entry) {
  const std::string path = path_of(number(entry.id));
  if (!root.stat(path)) return false;
  const std::string text = root.read_all(path, kMostBytes);
  return text.ends_with("}\n") && text.find(entry.digest.hex()) != std::string::npos;
}

/// Takes an entry that comes next; false, with the reason, if it does not.
bool take(History& history, std::string_view text, const std::string& where) {
  try {
    state::LedgerRecord record = state::ledger_record(text, where);
    const Digest last = history.records.empty() ? Digest{} : history.records.back().entry.digest;
    if (record.entry.previous != last)
      throw Error(ErrorCode::Untrusted, "does not follow on the entry before it", where);
    history.records.push_back(std::move(record));
    return true;
  } catch (const Error& problem) {
    history.broken = fmt::format("{}: {}", problem.where(), problem.problem());
    return false;
  }
}

}  // namespace

void copy_ledger(os::FileSystem& root, const state::State& state) {
  std::vector<state::LedgerEntry> missing;
  for (std::int64_t id = number(state.next_id()) - 1; id > 0; --id) {
    auto entry = state.ledger_entry(state::TxnId{id});
    if (!entry) continue;
    if (stands(root, *entry)) break;
    missing.push_back(std::move(*entry));
  }
  if (missing.empty()) return;
  root.make_directories(kLedgerCopy);
  root.set_mode(kLedgerCopy, 0700);
  for (auto entry = missing.rbegin(); entry != missing.rend(); ++entry)
    root.replace_cache(path_of(number(entry->id)), state::ledger_text(*entry, state.changes_of(entry->id)) + "\n",
                       0600);
}

History read_copy(os::FileReader& root) {
  History history;
  if (!root.stat(kLedgerCopy)) return history;
  std::vector<std::int64_t> ids;
  for (const std::string& name : root.list(kLedgerCopy))
    if (const auto id = parse_number(name.substr(0, name.find('.'))); id && name.ends_with(".json"))
      ids.push_back(static_cast<std::int64_t>(*id));
  std::sort(ids.begin(), ids.end());
  for (const std::int64_t id : ids)
    if (!take(history, root.read_all(path_of(id), kMostBytes), root.shown(path_of(id)))) break;
  return history;
}

History read_export(std::string_view text, const std::string& where) {
  History history;
  std::size_t number = 0;
  for (const std::string_view line : split(text, '\n')) {
    ++number;
    if (!line.empty() && !take(history, line, fmt::format("{}:{}", where, number))) break;
  }
  return history;
}

}  // namespace hambrel::txn
