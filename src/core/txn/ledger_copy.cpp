#include "txn/ledger_copy.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::txn {

namespace {

constexpr std::uint64_t kMostEntry = 256 << 20, kMostHead = 4096;  // of one entry, of the head
constexpr const char* kHead = "var/lib/hambrel/ledger/head";       // which entry is the last one

std::string path_of(std::int64_t id) { return fmt::format("{}/{}.json", kLedgerCopy, id); }

/// Is the entry there, whole?
bool stands(os::FileReader& root, const state::LedgerEntry& entry) {
  const std::string path = path_of(number(entry.id));
  if (!root.stat(path)) return false;
  const std::string text = root.read_itself(path, kMostEntry);
  return text.ends_with("}\n") && text.find(entry.digest.hex()) != std::string::npos;
}

/// Takes an entry that comes next; false, with the reason, if it does not.
bool take(History& history, std::string_view text, const std::string& where) {
  try {
    state::LedgerRecord record = state::ledger_record(text, where);
    const Digest last = history.records.empty() ? Digest{} : history.records.back().entry.digest;
    const std::int64_t number_of_last = history.records.empty() ? 0 : number(history.records.back().entry.id);
    if (record.entry.previous != last || number(record.entry.id) <= number_of_last)
      throw Error(ErrorCode::Untrusted, "breaks the chain", where);
    history.records.push_back(std::move(record));
    return true;
  } catch (const Error& problem) {
    history.broken = fmt::format("{}: {}", problem.where(), problem.problem());
    return false;
  }
}

}  // namespace

void copy_ledger(os::FileSystem& root, const state::LedgerStore& state) {
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
    root.replace_cache(path_of(number(entry->id)), state::ledger_text(*entry, state.changes_told(entry->id)) + "\n",
                       0600);
  const state::LedgerEntry& last = missing.front();
  root.replace_cache(kHead, canonical({{"id", number(last.id)}, {"digest", last.digest.hex()}}) + "\n", 0600);
}

void renew_copy(os::FileSystem& root, const state::LedgerStore& state) {
  root.remove_tree(kLedgerCopy);
  copy_ledger(root, state);
}

std::vector<std::string> copy_problems(os::FileReader& root, const state::LedgerStore& state) {
  std::vector<std::string> problems;
  if (!root.stat(kLedgerCopy)) return problems;
  const History copied = read_copy(root);
  if (!copied.broken.empty()) problems.push_back("the copy of the ledger: " + copied.broken);
  for (const state::LedgerRecord& one : copied.records) {
    const auto entry = state.ledger_entry(one.entry.id);
    if (entry && entry->digest == one.entry.digest) continue;
    problems.push_back(fmt::format("the ledger and its copy differ in transaction {}", number(one.entry.id)));
    break;
  }
  return problems;
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
    if (!take(history, root.read_itself(path_of(id), kMostEntry), root.shown(path_of(id)))) return history;
  if (!root.stat(kHead)) return history;  // of an older program
  try {
    const Json whole = parse_json(root.read_itself(kHead, kMostHead), root.shown(kHead));
    const JsonObject head(whole, root.shown(kHead));
    const bool same = !history.records.empty() && head.signed_number("id") == number(history.records.back().entry.id) &&
                      head.text("digest") == history.records.back().entry.digest.hex();
    // A later entry may have been copied and its head lost to a power cut, never the other way round.
    const bool shorter = history.records.empty() || head.signed_number("id") > number(history.records.back().entry.id);
    if (!same && shorter)
      history.broken = fmt::format("{}: there should be entries up to {}: the end was cut off", root.shown(kHead),
                                   head.signed_number("id"));
  } catch (const Error& problem) {
    history.broken = fmt::format("{}: {}", problem.where(), problem.problem());
  }
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
