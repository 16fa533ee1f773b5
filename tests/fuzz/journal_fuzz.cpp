// A journal that says anything at all, on a disk that looks any way: recovery either makes an end of it or refuses and
// leaves it standing; it never loops, reads beyond, or deletes anything but the directories of that transaction.
#include <fuzzer/FuzzedDataProvider.h>

#include <sqlite3.h>

#include <cstdlib>

#include "base/error.h"
#include "state/vfs.h"
#include "support/crash_fs.h"
#include "txn/engine.h"

namespace {

using namespace hambrel;
using state::MoveKind;

constexpr const char* kState = "var/lib/hambrel/state.sqlite";

void require(bool holds) {
  if (!holds) std::abort();
}

const test::CrashFs& fresh_disk() {
  static test::CrashFs disk;
  static const bool made = [] {
    disk.make_directories("var/lib/hambrel");
    state::State(disk, kState, state::Access::Change);
    disk.sync_all("");
    return true;
  }();
  static_cast<void>(made);
  return disk;
}

std::string some_path(FuzzedDataProvider& input) {
  static const char* const known[] = {"a", "d", "d/b", "d/c/x", "usr", "var/lib/hambrel/stage/1/tree/a", "etc"};
  if (input.ConsumeBool()) return input.PickValueInArray(known);
  return input.ConsumeRandomLengthString(40);
}

/// As nobody of ours would write it.
void write_directory(test::CrashFs& disk, const std::string& directory) {
  const state::Vfs vfs(static_cast<os::FileSystem&>(disk), kState);
  sqlite3* database = nullptr;
  require(sqlite3_open_v2(state::Vfs::kDatabase, &database, SQLITE_OPEN_READWRITE, vfs.name().c_str()) == SQLITE_OK);
  sqlite3_stmt* update = nullptr;
  require(sqlite3_prepare_v2(database, "UPDATE journal SET directory = ?", -1, &update, nullptr) == SQLITE_OK);
  require(sqlite3_bind_text(update, 1, directory.data(), static_cast<int>(directory.size()), SQLITE_STATIC) ==
          SQLITE_OK);
  require(sqlite3_step(update) == SQLITE_DONE);
  sqlite3_finalize(update);
  sqlite3_close(database);
}

bool still_stands(const state::State& state) {
  try {
    return state.journal().has_value();
  } catch (const Error&) {  // it names no transaction
    return true;
  }
}

void run(FuzzedDataProvider& input) {
  test::CrashFs disk(fresh_disk());
  state::Journal journal;
  journal.id = state::State(disk, kState, state::Access::Change).next_id();
  journal.directory = "stage/1";
  journal.kind = "test";
  const std::string own = input.ConsumeBool() ? journal.directory : some_path(input);
  std::vector<std::uint64_t> inodes{0, 1};
  try {
    for (int i = input.ConsumeIntegralInRange(0, 12); i > 0; --i) {
      const std::string path =
          input.ConsumeBool() ? "var/lib/hambrel/stage/1/tree/" + some_path(input) : some_path(input);
      disk.make_directories(os::parent_of(path));
      disk.create(path, 0644)->write(std::string_view("content"));
      if (const auto info = disk.stat(path)) inodes.push_back(info->inode);
    }
  } catch (const Error&) {  // paths that can't be
  }
  const auto inode = [&] { return inodes[input.ConsumeIntegralInRange<std::size_t>(0, inodes.size() - 1)]; };
  for (int i = input.ConsumeIntegralInRange(0, 12); i > 0; --i) {
    state::Move move;
    move.kind = static_cast<MoveKind>(input.ConsumeIntegralInRange(0, 3));
    move.path = some_path(input);
    move.home = input.ConsumeBool() ? "var/lib/hambrel" : some_path(input);
    move.place = input.ConsumeBool() ? "tree/" + move.path.string() : some_path(input);
    move.inode_new = inode();
    move.inode_old = inode();
    move.attributes.own().before.mode = input.ConsumeIntegralInRange(0U, 07777U);
    journal.moves.push_back(move);
  }
  state::State(disk, kState, state::Access::Change).write_journal(journal);
  if (own != journal.directory) write_directory(disk, own);
  state::State state(disk, kState, state::Access::Change);
  const auto contents = [&] {  // of all that lies outside of Hambrel's own directory
    std::size_t count = 0;
    for (const auto& [path, facts] : disk.tree({"var/lib/hambrel"}))
      count += facts.find("content") != std::string::npos;
    return count;
  };
  const std::size_t before = contents();
  Observer silent;
  txn::Engine engine({disk, state, silent, true, [] { return 1; }});
  try {
    const auto recovered = engine.recover();
    require(recovered.has_value() && !state.journal() && state.ledger(1).at(0).result == "taken back");
    require(recovered->moves_taken_back <= journal.moves.size());
    require(contents() + recovered->moves_taken_back >= before);  // each move takes at most one file away
    require(!engine.recover());
  } catch (const Error&) {
    require(still_stands(state) || state.ledger(1).at(0).result == "taken back");
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  FuzzedDataProvider input(data, size);
  run(input);
  return 0;
}
