#include "txn/transaction.h"

#include <fmt/format.h>

#include <map>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "base/json.h"
#include "model/manifest.h"
#include "model/package.h"

namespace hambrel::txn {

using state::DirectoryTime;
using state::Journal;
using state::Move;
using state::PackageChange;
using state::StatePackage;

state::LedgerEntry entry_of(state::TxnId id, std::int64_t started, std::int64_t ended, const Account& account) {
  state::LedgerEntry entry;
  entry.id = id;
  entry.started = started;
  entry.ended = ended;
  entry.user = account.user;
  entry.command = account.command;
  entry.kind = account.kind;
  entry.note = account.note;
  entry.record = account.record;
  entry.downloaded = account.downloaded;
  entry.result = "done";
  return entry;
}

namespace {

constexpr int kFormat = 2, kWithoutRuns = 1;  // of encode(); others are not read

[[noreturn]] void refuse_damaged(const std::string& why) {
  throw Error(ErrorCode::Untrusted, "the prepared transaction is damaged: " + why, {},
              "`hambrel activate --discard` drops it; then prepare it again");
}

/// A path inside the root.
std::string path_in(const Json& text) {
  std::string path = text.get<std::string>();
  if (const std::string problem = path_problem(path); !problem.empty()) refuse_damaged("it has " + problem);
  return path;
}

Json encoded(const StatePackage& one, bool known) {
  Json object = {{"reason", text_of(one.reason)}, {"shelved", one.shelved}};
  if (one.hold) object["hold"] = Json::array({one.hold->since, one.hold->until, one.hold->reason, one.hold->user});
  if (known) return object;
  object["manifest"] = manifest_text(one.package);
  object["origin"] = one.origin;
  object["digest"] = one.digest.hex();
  object["time"] = one.time;
  return object;
}

StatePackage decoded(const Json& object, const std::optional<std::int64_t>& row, const state::State& state) {
  StatePackage one;
  if (row) {
    one = state.package(*row);
  } else {
    one.package = package_from_json(parse_json(object.at("manifest").get<std::string>(), "prepared"), "prepared");
    one.origin = object.at("origin").get<std::string>();
    one.digest = Digest::from_hex(object.at("digest").get<std::string>()).value_or(Digest{});
    one.time = object.at("time").get<std::int64_t>();
  }
  one.reason = reason_from(object.at("reason").get<std::string>()).value_or(Reason::Wanted);
  one.shelved = object.at("shelved").get<bool>();
  one.hold.reset();
  if (object.contains("hold")) {
    const Json& hold = object["hold"];
    one.hold = Hold{hold.at(0).get<std::int64_t>(), hold.at(1).get<std::int64_t>(), hold.at(2).get<std::string>(),
                    hold.at(3).get<std::string>()};
  }
  return one;
}

Json encoded(const PackageChange& change) {
  Json object = {{"name", change.name}};
  if (change.before_row) {
    object["before_row"] = *change.before_row;
    object["before"] = encoded(*change.before, true);
  }
  if (change.after_row) object["after_row"] = *change.after_row;
  if (change.after) object["after"] = encoded(*change.after, change.after_row.has_value());
  if (change.index) object["index"] = Json::array({change.index->gone, change.index->come});
  const std::string& files = change.files.bytes();
  if (change.after && !change.after_row) object["files"] = Json::binary({files.begin(), files.end()});
  return object;
}

PackageChange decoded_change(const Json& object, const state::State& state) {
  PackageChange change;
  change.name = object.at("name").get<std::string>();
  const auto side = [&](const char* name, std::optional<std::int64_t>& row, std::optional<StatePackage>& value) {
    const std::string row_name = std::string(name) + "_row";
    if (object.contains(row_name)) row = object[row_name].get<std::int64_t>();
    if (object.contains(name)) value = decoded(object[name], row, state);
  };
  side("before", change.before_row, change.before);
  side("after", change.after_row, change.after);
  const bool is_whole =
      change.before_row.has_value() == change.before.has_value() && (change.after || !change.after_row);
  if (!is_whole || (!change.before && !change.after)) refuse_damaged("a change lacks a side");
  if (object.contains("index")) {
    const Json& index = object["index"];
    change.index = PackageChange::Index{index.at(0).get<std::vector<std::int64_t>>(),
                                        index.at(1).get<std::vector<std::int64_t>>()};
  }
  if (object.contains("files")) {
    const auto& files = object["files"].get_binary();
    change.files = FileList(std::string(files.begin(), files.end()), "prepared");
  }
  return change;
}

Json encoded(const state::GeneratedChange& change) {
  const auto side = [](const std::optional<state::Generated>& one) {
    return one ? Json(state::text_of(*one)) : Json();
  };
  return Json::array({change.path, side(change.before), side(change.after)});
}

state::GeneratedChange decoded_generated(const Json& one) {
  state::GeneratedChange change;
  change.path = path_in(one.at(0));
  const auto side = [&](const Json& value) {
    return value.is_null() ? std::nullopt
                           : std::optional(state::generated_from(change.path, value.get<std::string>(), "prepared"));
  };
  change.before = side(one.at(1));
  change.after = side(one.at(2));
  if (!change.before && !change.after) refuse_damaged("a change lacks a side");
  return change;
}

Json encoded(const state::DirectoryAttributes& one) { return Json::array({one.mode, one.uid, one.gid}); }

state::DirectoryAttributes decoded_attributes(const Json& one) {
  return {one.at(0).get<std::uint32_t>(), one.at(1).get<std::uint32_t>(), one.at(2).get<std::uint32_t>()};
}

}  // namespace

std::string encode(const Transaction& transaction) {
  const auto list = [](const auto& items, const auto& encode_one) {
    Json result = Json::array();
    for (const auto& one : items) result.push_back(encode_one(one));
    return result;
  };
  const Account& account = transaction.account;
  HAMBREL_ASSERT(!transaction.journal.directory.empty(), "what is prepared lies somewhere");
  Json whole = {{"account", Json::array({account.kind, account.command, account.user, account.note, account.record,
                                         account.downloaded, account.undo_of ? number(*account.undo_of) : 0})},
                {"directory", transaction.journal.directory},
                {"format", kFormat}};
  whole["moves"] = list(transaction.journal.moves, [](const Move& one) {
    const auto& [before, after] = one.attributes_change();
    return Json::array({static_cast<int>(one.kind), one.path.view(), one.place.view(), one.home.view(), one.inode_new,
                        one.inode_old, encoded(before), encoded(after), one.plain});
  });
  whole["restore"] = list(transaction.restore, [](const DirectoryTime& one) {
    return Json::array({one.path, one.before_seconds, one.before_nanoseconds});
  });
  whole["changes"] = list(transaction.changes, [](const PackageChange& one) { return encoded(one); });
  if (transaction.attic) whole["attic"] = *transaction.attic;
  whole["gives_up"] = list(transaction.gives_up, [](const state::TxnId one) { return Json(number(one)); });
  whole["witnesses"] = list(transaction.witnesses, [](const Witness& one) {
    return Json::array({one.path, one.there, one.inode, one.size, one.mtime_seconds, one.mtime_nanoseconds});
  });
  whole["generated"] = list(transaction.generated, [](const state::GeneratedChange& one) { return encoded(one); });
  whole["runs"] = list(transaction.runs, [](const state::RunRecord& one) {
    return Json::array({one.package, one.program, one.occasion, one.milliseconds, one.ended, one.output});
  });
  whole["answers"] = list(transaction.answers, [](const state::Answer& one) {
    return Json::array({one.package, one.key, one.value ? Json(*one.value) : Json()});
  });
  whole["picks"] = list(transaction.picks, [](const state::PickChange& one) {
    return Json::array({one.path, one.before, one.after});
  });
  whole["follows"] = list(transaction.follows, [](const state::FollowChange& one) {
    return Json::array({one.name, one.before, one.after});
  });
  whole["lines"] = list(transaction.lines, [](const state::LineChange& one) {
    return Json::array({one.path, static_cast<int>(one.what), one.line, one.member});
  });
  std::string bytes;
  Json::to_cbor(whole, bytes);
  return bytes;
}

namespace {

template <typename Kind>
Kind kind_in(const Json& number, Kind last) {
  const auto value = number.get<std::int64_t>();
  if (value < 0 || value > static_cast<std::int64_t>(last))
    refuse_damaged(fmt::format("it records an unknown kind, {}", value));
  return static_cast<Kind>(value);
}

/// What it does beyond files of packages.
void decode_acting(const Json& whole, Transaction& transaction) {
  const auto text = [](const Json& one) { return one.get<std::string>(); };
  const auto named = [](const Json& one) {  // a name, or a line: one that is not empty
    std::string name = one.get<std::string>();
    if (name.empty() || name.find('\n') != std::string::npos) refuse_damaged("it lacks a name");
    return name;
  };
  const auto list = [&](const char* name) { return whole.value(name, Json::array()); };
  for (const Json& one : list("generated")) transaction.generated.push_back(decoded_generated(one));
  for (const Json& one : list("answers"))
    transaction.answers.push_back(
        {named(one.at(0)), named(one.at(1)), one.at(2).is_null() ? std::nullopt : std::optional(text(one.at(2)))});
  for (const Json& one : list("picks"))
    transaction.picks.push_back({path_in(one.at(0)), text(one.at(1)), text(one.at(2))});
  for (const Json& one : list("follows"))
    transaction.follows.push_back({named(one.at(0)), text(one.at(1)), text(one.at(2))});
  for (const Json& one : list("lines"))
    transaction.lines.push_back(
        {path_in(one.at(0)), kind_in(one.at(1), state::LineChange::What::Leave), named(one.at(2)), text(one.at(3))});
  for (const Json& one : list("runs"))
    transaction.runs.push_back({text(one.at(0)), text(one.at(1)), text(one.at(2)), one.at(3).get<std::int64_t>(),
                                text(one.at(4)), text(one.at(5))});
}

}  // namespace

Transaction decode(const std::string& bytes, const state::State& state) {
  try {
    const Json whole = parse_cbor(bytes, "what is prepared");
    if (!whole.contains("format") || (whole["format"] != kFormat && whole["format"] != kWithoutRuns))
      throw Error(ErrorCode::Refused, "another version of Hambrel prepared this transaction", {},
                  "`hambrel activate --discard` drops it; then prepare it again");
    Transaction transaction;
    const Json& account = whole.at("account");
    const auto text = [](const Json& one) { return one.get<std::string>(); };
    const auto signed_number = [](const Json& one) { return one.get<std::int64_t>(); };
    transaction.account = {text(account.at(0)),
                           text(account.at(1)),
                           text(account.at(2)),
                           text(account.at(3)),
                           text(account.at(4)),
                           account.at(5).get<ByteCount>(),
                           {}};
    if (const std::int64_t undo_of = signed_number(account.at(6)); undo_of != 0)
      transaction.account.undo_of = state::TxnId{undo_of};
    transaction.journal.directory = path_in(whole.at("directory"));
    for (const Json& one : whole.at("moves")) {
      Move move;
      move.kind = kind_in(one.at(0), state::MoveKind::Attributes);
      move.path = path_in(one.at(1));
      if (move.kind != state::MoveKind::Attributes) move.place = path_in(one.at(2));
      move.home = path_in(one.at(3));
      move.inode_new = one.at(4).get<std::uint64_t>();
      move.inode_old = one.at(5).get<std::uint64_t>();
      const state::AttributesChange attributes{decoded_attributes(one.at(6)), decoded_attributes(one.at(7))};
      if (move.kind == state::MoveKind::Attributes) move.attributes = attributes;
      move.plain = one.at(8).get<bool>();
      transaction.journal.moves.push_back(std::move(move));
    }
    for (const Json& one : whole.at("restore"))
      transaction.restore.push_back({text(one.at(0)), signed_number(one.at(1)), signed_number(one.at(2)), 0, 0});
    decode_acting(whole, transaction);
    if (whole.contains("attic")) transaction.attic = whole["attic"].get<ByteCount>();
    for (const Json& one : whole.at("gives_up")) transaction.gives_up.push_back(state::TxnId{signed_number(one)});
    for (const Json& one : whole.at("changes")) transaction.changes.push_back(decoded_change(one, state));
    for (const Json& one : whole.at("witnesses"))
      transaction.witnesses.push_back({path_in(one.at(0)), one.at(1).get<bool>(), one.at(2).get<std::uint64_t>(),
                                       one.at(3).get<std::uint64_t>(), signed_number(one.at(4)),
                                       signed_number(one.at(5))});
    return transaction;
  } catch (const Error& problem) {
    if (problem.code() != ErrorCode::Invalid) throw;
    refuse_damaged(problem.problem());
  } catch (const Json::exception& problem) {
    refuse_damaged(problem.what());
  }
}

void source_missing_content(Planned& planned, const std::vector<const StatePackage*>& kept, const FileOf& file_of) {
  std::map<std::size_t, std::vector<const Put*>> lacking;
  for (const Put& put : planned.tree.puts)
    if (put.package != Put::npos && put.entry.type() == EntryType::File && put.rest().kept.empty() &&
        !put.rest().content && kept[put.package] != nullptr)
      lacking[put.package].push_back(&put);
  for (const auto& [package, puts] : lacking) {
    const StatePackage& one = *kept[package];
    const PackageFile file = file_of(one);
    std::set<std::uint32_t> frames;
    for (const Put* const put : puts) {
      const auto there = file.reader == nullptr ? std::nullopt : file.reader->find(put->path_in_package());
      if (!there || there->type != EntryType::File || there->digest != put->entry.digest())
        throw Error(
            ErrorCode::Refused,
            fmt::format("the version of {} is not in the attic, the cache or a repository", one.package.title()),
            fmt::format("/{}", put->path_in_package()),
            "another version may be available: hambrel downgrade " + one.package.name);
      for (std::uint64_t at = 0, frame = there->frame; frame < file.reader->contents().frames().size(); ++frame) {
        frames.insert(static_cast<std::uint32_t>(frame));
        at += file.reader->contents().frames()[frame].plain_size;
        if (at >= there->offset + there->size) break;
      }
    }
    planned.sources[package].reader = file.reader;
    for (plan::Step& step : planned.plan.steps) {
      if (step.name != one.package.name || step.arch != one.package.arch || step.after != one.package.version.text())
        continue;
      step.origin = file.at_hand ? "cache" : one.origin;
      if (file.at_hand) continue;
      for (const std::uint32_t frame : frames) step.download += file.reader->contents().frames()[frame].size;
    }
  }
}

Witness witness_of(os::Looker& looker, const SharedText& path) {
  const auto info = looker.stat(path);
  if (!info) return {path};
  return {path, true, info->inode, info->size, info->mtime_seconds, info->mtime_nanoseconds};
}

}  // namespace hambrel::txn
