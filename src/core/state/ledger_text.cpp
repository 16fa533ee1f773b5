#include "state/ledger_text.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "state/state_impl.h"

namespace hambrel::state {

namespace {

std::int64_t seconds_of(const JsonObject& object, const char* key) {
  const auto seconds = parse_utc(object.text(key));
  if (!seconds) object.wrong(key, "a time");
  return *seconds;
}

Digest digest_in(const JsonObject& object, const char* key) {
  const auto digest = Digest::from_hex(object.text(key));
  if (!digest) object.wrong(key, "64 hexadecimal digits");
  return *digest;
}

std::optional<StatePackage> side_of(const Json& value, const std::string& name, const std::string& where) {
  if (value.is_null()) return std::nullopt;
  const JsonObject object(value, where);
  StatePackage one;
  one.package.name = name;
  const auto version = Version::parse(object.text("version"));
  if (!version) object.wrong("version", "a version");
  one.package.version = *version;
  one.package.arch = architecture_from(object.text("arch"));
  one.package.summary = "known only from the ledger";
  one.reason = reason_from(object.text("reason")).value_or(Reason::Wanted);
  one.origin = object.text("origin");
  one.digest = Digest::from_hex(object.text("digest")).value_or(Digest{});
  one.time = object.signed_number("time");
  one.shelved = object.flag_or("shelved", false);
  if (object.has("hold")) one.hold = hold_from(canonical(object.member("hold")), where);
  return one;
}

Json ledger_json(const LedgerEntry& entry) {
  Json object = {{"id", number(entry.id)},
                 {"started", utc_text(entry.started)},
                 {"ended", utc_text(entry.ended)},
                 {"user", entry.user},
                 {"command", entry.command},
                 {"kind", entry.kind},
                 {"reason", entry.note},
                 {"result", entry.result},
                 {"problem", entry.problem},
                 {"downloaded", entry.downloaded},
                 {"previous", entry.previous.hex()},
                 {"digest", entry.digest.hex()}};
  if (entry.undo_of) object["undo_of"] = number(*entry.undo_of);
  if (entry.chain > 1) {
    object["chain"] = entry.chain;
    object["moves"] = entry.moves.hex();
  }
  return object;
}

Json side_json(const std::optional<StatePackage>& one, int chain) {
  if (!one) return {};
  Json side = {{"version", one->package.version.text()},
               {"arch", architecture_in(one->package.arch, chain)},
               {"reason", text_of(one->reason)},
               {"origin", one->origin},
               {"digest", one->digest.hex()},
               {"time", one->time}};
  if (one->shelved) side["shelved"] = true;
  if (one->hold) side["hold"] = parse_json(hold_text(one->hold), "hold");
  return side;
}

}  // namespace

std::string changes_text(const std::vector<PackageChange>& changes, int chain) {
  Json list = Json::array();
  for (const PackageChange& change : changes) {
    Json& one = list.emplace_back(Json{
        {"name", change.name}, {"before", side_json(change.before, chain)}, {"after", side_json(change.after, chain)}});
    if (change.brings)
      one["brings"] = {{"manifest", change.brings->manifest.hex()}, {"files", change.brings->files.hex()}};
  }
  return canonical(list);
}

std::string ledger_text(const LedgerEntry& entry, std::string_view changes) {
  Json object = ledger_json(entry);
  object["plan"] = entry.record;  // as text: the digest is over it
  object["changes"] = parse_json(changes, "changes");
  return canonical(object);
}

LedgerRecord ledger_record(std::string_view text, const std::string& where) {
  LedgerRecord record;
  try {
    const Json whole = parse_json(text, where);
    const JsonObject object(whole, where);
    LedgerEntry& entry = record.entry;
    entry.id = TxnId{object.signed_number("id")};
    entry.started = seconds_of(object, "started");
    entry.ended = seconds_of(object, "ended");
    entry.user = object.text("user");
    entry.command = object.text("command");
    entry.kind = object.text("kind");
    entry.note = object.text("reason");
    entry.result = object.text("result");
    entry.problem = object.text("problem");
    entry.downloaded = object.number("downloaded");
    entry.record = object.text("plan");
    if (object.has("undo_of")) entry.undo_of = TxnId{object.signed_number("undo_of")};
    if (entry.undo_of && (number(*entry.undo_of) <= 0 || number(*entry.undo_of) >= number(entry.id)))
      object.wrong("undo_of", "a transaction before it");
    entry.previous = Digest::from_hex(object.text("previous")).value_or(Digest{});
    entry.digest = Digest::from_hex(object.text("digest")).value_or(Digest{});
    entry.chain = static_cast<int>(std::min<std::uint64_t>(object.number_or("chain", 1), INT32_MAX));
    if (entry.chain > kChain) object.wrong("chain", "one that this program knows: use a newer one");
    if (entry.chain > 1) entry.moves = digest_in(object, "moves");
    const Json& changes = object.member("changes");
    if (!changes.is_array()) object.wrong("changes", "a list");
    for (const Json& one : changes) {
      const JsonObject change(one, where);
      PackageChange read;
      read.name = change.text("name");
      read.before = side_of(change.member("before"), read.name, where);
      read.after = side_of(change.member("after"), read.name, where);
      if (change.has("brings")) {
        const JsonObject brings(change.member("brings"), where);
        read.brings = PackageChange::Brings{digest_in(brings, "manifest"), digest_in(brings, "files")};
      }
      if (!is_installable_name(read.name) || (!read.before && !read.after))
        change.wrong("name", "a change of a package");
      record.changes.push_back(std::move(read));
    }
  } catch (const Error& problem) {
    throw Error(ErrorCode::Untrusted, "is not an entry of a ledger: " + problem.problem(), where,
                "`hambrel ledger export` writes such files");
  }
  if (chain_digest(record.entry, changes_text(record.changes, record.entry.chain)) != record.entry.digest)
    throw Error(ErrorCode::Untrusted, "was modified: its digest differs", where, "use an intact copy");
  return record;
}

}  // namespace hambrel::state
