// Checkpoints in the state.
#include "base/assert.h"
#include "state/state_impl.h"

namespace hambrel::state {

std::vector<Checkpoint> CheckpointStore::checkpoints() const {
  return guarded(connection_->path, [&] {
    std::vector<Checkpoint> result;
    connection_->require_dense_numbers();
    const std::int64_t last = connection_->database.execAndGet("SELECT coalesce(max(id), 0) FROM ledger").getInt64();
    SQLite::Statement query(connection_->database, "SELECT id, name, after, time, note FROM checkpoints ORDER BY id");
    SQLite::Statement files(
        connection_->database,
        "SELECT path, digest, size, uid, gid FROM checkpoint_files WHERE checkpoint = ? ORDER BY path");
    while (query.executeStep()) {
      Checkpoint one;
      one.id = query.getColumn(0).getInt64();
      one.name = query.getColumn(1).getString();
      one.after = TxnId{query.getColumn(2).getInt64()};
      one.time = query.getColumn(3).getInt64();
      one.note = query.getColumn(4).getString();
      if (number(one.after) < 0 || number(one.after) > last)
        throw Error(
            ErrorCode::Invalid,
            fmt::format("it has a checkpoint after transaction {}, but only {} transactions", number(one.after), last),
            connection_->path);
      set_values(files, one.id);
      while (files.executeStep()) {
        one.files.push_back({files.getColumn(0).getString(),
                             Digest::from_hex(files.getColumn(1).getString()).value_or(Digest{}),
                             static_cast<ByteCount>(files.getColumn(2).getInt64()), files.getColumn(3).getUInt(),
                             files.getColumn(4).getUInt()});
        require_clean(one.files.back().path, connection_->path);
      }
      files.reset();
      result.push_back(std::move(one));
    }
    return result;
  });
}

void CheckpointStore::add_checkpoint(const Checkpoint& checkpoint) {
  guarded(connection_->path, [&] {
    HAMBREL_ASSERT(checkpoint.id > 0 && !checkpoint.name.empty(), "a checkpoint has a number and a name");
    SQLite::Transaction step(connection_->database);
    SQLite::Statement insert(connection_->database, "INSERT INTO checkpoints VALUES(?, ?, ?, ?, ?)");
    run(insert, checkpoint.id, checkpoint.name, checkpoint.after, checkpoint.time, checkpoint.note);
    SQLite::Statement put(connection_->database, "INSERT OR REPLACE INTO checkpoint_files VALUES(?, ?, ?, ?, ?, ?)");
    for (const CheckpointFile& file : checkpoint.files)
      run(put, checkpoint.id, file.path, file.digest, file.size, file.uid, file.gid);
    step.commit();
  });
}

void CheckpointStore::drop_checkpoint(std::int64_t id) {
  guarded(connection_->path, [&] {
    SQLite::Statement drop(connection_->database, "DELETE FROM checkpoints WHERE id = ?");
    run(drop, id);
  });
}

}  // namespace hambrel::state
