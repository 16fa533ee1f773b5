// Packages' files in the state: lists, and the index of paths.
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cstring>
#include <unordered_set>

#include "base/assert.h"
#include "base/checksum.h"
#include "base/json.h"
#include "base/text.h"
#include "model/manifest.h"
#include "state/state_impl.h"

namespace hambrel::state {

namespace {

constexpr std::size_t kMostListBytes = 16U << 20;  // kept in memory

std::int64_t hash_of(std::string_view path) {
  return static_cast<std::int64_t>(checksum(reinterpret_cast<const std::byte*>(path.data()), path.size()));
}

}  // namespace

std::shared_ptr<const FileList> Connection::list_of(std::int64_t package_row) {
  if (const auto known = lists.find(package_row); known != lists.end()) return known->second;
  if (const auto held = held_lists.find(package_row); held != held_lists.end())
    if (auto list = held->second.lock()) return list;
  SQLite::Statement query(database,
                          "SELECT l.list, p.state = 'installed' OR p.shelved FROM packages p"
                          " LEFT JOIN lists l ON l.package = p.id WHERE p.id = ?");
  set_values(query, package_row);
  auto list = std::make_shared<const FileList>();
  if (query.executeStep()) {
    const auto column = query.getColumn(0);
    // of what is here there is one, of no files at least; for what is not, see knows_files_of()
    if (column.isNull() && query.getColumn(1).getInt() != 0)
      throw Error(ErrorCode::Invalid, fmt::format("it has no list of the files of package row {}", package_row), path);
    list = std::make_shared<const FileList>(
        std::string(static_cast<const char*>(column.getBlob()), static_cast<std::size_t>(column.getBytes())), path);
  }
  if (lists_size + list->bytes().size() > kMostListBytes) let_go_of_lists();
  lists_size += list->bytes().size();
  lists.emplace(package_row, list);
  return list;
}

void Connection::let_go_of_lists() {
  std::erase_if(held_lists, [](const auto& one) { return one.second.expired(); });
  for (const auto& [row, list] : lists)
    if (list.use_count() > 1) held_lists.insert_or_assign(row, list);
  lists.clear();
  lists_size = 0;
}

std::shared_ptr<const FileList> PackageStore::files_of(std::int64_t package_row) const {
  return guarded(connection_->path, [&] { return connection_->list_of(package_row); });
}

namespace {

bool is_config(const FileList& list, std::size_t i) { return list.config(i) && list.type(i) == EntryType::File; }

bool has_configuration(const FileList& list) {
  std::size_t i = 0;
  while (i < list.size() && !is_config(list, i)) ++i;
  return i < list.size();
}

}  // namespace

std::vector<FileEntry> PackageStore::configuration_of(std::int64_t package_row) const {
  std::vector<FileEntry> result;
  if (!guarded(connection_->path, [&] { return connection_->may_have_configuration(package_row); })) return result;
  const auto list = files_of(package_row);
  for (std::size_t i = 0; i < list->size(); ++i)
    if (is_config(*list, i)) result.push_back(list->entry(i));
  return result;
}

void Connection::note_configuration() {
  std::vector<std::int64_t> packages;
  SQLite::Statement all(database, "SELECT package FROM lists");
  while (all.executeStep()) packages.push_back(all.getColumn(0).getInt64());
  ScopedStatement note = repeat("UPDATE packages SET configs = ? WHERE id = ?");
  for (const std::int64_t row : packages) {
    try {
      run(*note, has_configuration(*list_of(row)), row);
    } catch (const Error&) {  // it is damaged, which whoever needs it is told
    }
  }
}

bool Connection::may_have_configuration(std::int64_t package_row) {
  ScopedStatement query = repeat("SELECT configs IS NOT 0 FROM packages WHERE id = ?");
  set_values(*query, package_row);
  return !query->executeStep() || query->getColumn(0).getInt() != 0;
}

std::vector<std::int64_t> Connection::rows_at(std::string_view at) {
  if (!slots_query)
    slots_query.emplace(database,
                        "SELECT p.id FROM (SELECT slot FROM paths WHERE hash = ?1 UNION ALL"
                        " SELECT slot FROM more_paths WHERE hash = ?1) o"
                        " CROSS JOIN packages p ON p.slot = o.slot AND p.state = 'installed'");
  ScopedStatement query(*slots_query);
  set_values(*query, hash_of(at));
  std::vector<std::int64_t> rows;
  while (query->executeStep()) rows.push_back(query->getColumn(0).getInt64());
  return rows;
}

std::vector<OwnedFile> PathStore::owners_of(std::string_view path) const {
  return guarded(connection_->path, [&] {
    auto name = connection_->repeat("SELECT name FROM packages WHERE id = ?");
    std::vector<OwnedFile> result;
    for (const std::int64_t row : connection_->rows_at(path)) {
      const auto list = connection_->list_of(row);
      const auto found = list->find(path);
      if (!found) continue;
      set_values(*name, row);
      name->executeStep();
      result.push_back({row, name->getColumn(0).getString(), list->entry(*found)});
      name->reset();
    }
    std::sort(result.begin(), result.end(),
              [](const OwnedFile& a, const OwnedFile& b) { return a.package_name < b.package_name; });
    return result;
  });
}

std::optional<OwnedFile> PathStore::owner_of(std::string_view path, const std::set<std::int64_t>& but) const {
  return guarded(connection_->path, [&]() -> std::optional<OwnedFile> {
    for (const std::int64_t row : connection_->rows_at(path)) {
      if (but.contains(row)) continue;
      const auto list = connection_->list_of(row);
      const auto found = list->find(path);
      if (!found) continue;
      auto name = connection_->repeat("SELECT name FROM packages WHERE id = ?");
      set_values(*name, row);
      name->executeStep();
      return OwnedFile{row, name->getColumn(0).getString(), list->entry(*found)};
    }
    return std::nullopt;
  });
}

bool PathStore::may_be_owned(std::string_view path) const {
  return guarded(connection_->path, [&] { return !connection_->rows_at(path).empty(); });
}

bool PathStore::may_be_shared(std::string_view path) const {
  return guarded(connection_->path, [&] { return connection_->has_more(hash_of(path)); });
}

bool Connection::has_more(std::int64_t hash) {
  if (!more_query) more_query.emplace(database, "SELECT 1 FROM more_paths WHERE hash = ? LIMIT 1");
  ScopedStatement query(*more_query);
  set_values(*query, hash);
  return query->executeStep();
}

std::vector<std::size_t> PathStore::shared_files_of(std::int64_t package_row) const {
  return guarded(connection_->path, [&] {
    const auto list = connection_->list_of(package_row);
    std::vector<std::size_t> result;
    const auto each = [&](const auto& is_shared) {
      for (std::size_t i = 0; i < list->size(); ++i)
        if (is_shared(hash_of(list->path(i)))) result.push_back(i);
    };
    constexpr std::size_t kFew = 2000;  // asking for each is faster than reading all that is shared
    if (list->size() < kFew) {
      each([&](std::int64_t hash) { return connection_->has_more(hash); });
    } else {
      std::unordered_set<std::int64_t> shared;
      SQLite::Statement query(connection_->database, "SELECT DISTINCT hash FROM more_paths");
      while (query.executeStep()) shared.insert(query.getColumn(0).getInt64());
      each([&](std::int64_t hash) { return shared.contains(hash); });
    }
    return result;
  });
}

PathStore::OfOneAlone PathStore::paths_of_one(const std::set<std::int64_t>& package_rows) const {
  return guarded(connection_->path, [&] {
    std::unordered_set<std::int64_t> slots;
    auto slot = connection_->repeat("SELECT slot FROM packages WHERE id = ?");
    for (const std::int64_t row : package_rows) {
      set_values(*slot, row);
      if (slot->executeStep()) slots.insert(slot->getColumn(0).getInt64());
      slot->reset();
    }
    std::unordered_set<std::int64_t> shared;  // with another one than these
    SQLite::Statement query(connection_->database,
                            "SELECT m.hash, m.slot, p.slot FROM more_paths m JOIN paths p ON p.hash = m.hash");
    while (query.executeStep())
      if (!slots.contains(query.getColumn(1).getInt64()) || !slots.contains(query.getColumn(2).getInt64()))
        shared.insert(query.getColumn(0).getInt64());
    OfOneAlone result;
    std::size_t count = 0;
    for (const std::int64_t row : package_rows) {
      result.lists_.push_back(connection_->list_of(row));
      count += result.lists_.back()->size();
    }
    result.make_room(count);
    for (const auto& list : result.lists_)
      for (std::size_t i = 0; i < list->size(); ++i) {
        const std::string_view path = list->path(i);
        const std::int64_t hash = hash_of(path);
        if (!shared.contains(hash)) result.add(static_cast<std::uint64_t>(hash), path);
      }
    return result;
  });
}

void PathStore::OfOneAlone::make_room(std::size_t count) { slots_.assign(std::bit_ceil(2 * count + 1), {}); }

void PathStore::OfOneAlone::add(std::uint64_t hash, std::string_view path) {
  HAMBREL_ASSERT(std::has_single_bit(slots_.size()), "room was made");
  const std::size_t last = slots_.size() - 1;
  std::size_t at = hash & last;
  while (slots_[at].text != nullptr) at = (at + 1) & last;
  slots_[at] = {path.data(), static_cast<std::uint32_t>(path.size()), static_cast<std::uint32_t>(hash >> 32U)};
}

bool PathStore::OfOneAlone::contains(std::string_view path) const {
  if (slots_.empty()) return false;
  const auto hash = static_cast<std::uint64_t>(hash_of(path));
  const std::size_t last = slots_.size() - 1;
  for (std::size_t at = hash & last; slots_[at].text != nullptr; at = (at + 1) & last)
    if (slots_[at].tag == static_cast<std::uint32_t>(hash >> 32U) &&
        std::string_view(slots_[at].text, slots_[at].size) == path)
      return true;
  return false;
}

PackageChange::Index Connection::index_change(const FileList& before, const FileList& after) {
  PackageChange::Index change;
  auto& [gone, come] = change;
  std::size_t i = 0, j = 0;
  while (i < before.size() || j < after.size()) {
    int order = i == before.size() ? 1 : -1;  // of what is left alone
    if (i < before.size() && j < after.size()) order = before.path(i).compare(after.path(j));
    if (order < 0) gone.push_back(hash_of(before.path(i)));
    if (order > 0) come.push_back(hash_of(after.path(j)));
    if (order <= 0) ++i;
    if (order >= 0) ++j;
  }
  return change;
}

/// `after_row` is known. The files of a row that is new are at hand.
PackageChange::Index Connection::index_change(const PackageChange& change) {
  const auto list = [&](const auto& row, const auto& value) {
    return row && value && !value->shelved ? list_of(*row) : std::make_shared<const FileList>();
  };
  const bool is_given = change.files.size() > 0 && change.after && !change.after->shelved;
  const auto after = is_given ? std::make_shared<const FileList>(change.files) : list(change.after_row, change.after);
  return index_change(*list(change.before_row, change.before), *after);
}

void Connection::add_to(IndexRows& rows, std::int64_t slot, const PackageChange::Index& change) {
  for (const std::int64_t hash : change.gone) rows.gone.emplace_back(hash, slot);
  for (const std::int64_t hash : change.come) rows.come.emplace_back(hash, slot);
}

/// Where most of the index goes, all of it does, which costs next to nothing, and the rest is put in again.
void Connection::renew_if_most_goes(IndexRows& rows) {
  const auto count = static_cast<std::size_t>(database.execAndGet("SELECT count(*) FROM paths").getInt64());
  if (rows.gone.size() < count / 2) return;
  SQLite::Statement query(database, "SELECT hash, slot FROM paths UNION ALL SELECT hash, slot FROM more_paths");
  while (query.executeStep()) {
    const std::pair row(query.getColumn(0).getInt64(), query.getColumn(1).getInt64());
    if (!std::binary_search(rows.gone.begin(), rows.gone.end(), row)) rows.come.push_back(row);
  }
  query.reset();
  database.exec("DELETE FROM paths; DELETE FROM more_paths");
  rows.gone.clear();
  std::sort(rows.come.begin(), rows.come.end());
}

std::int64_t Connection::list_size_of(std::int64_t package_row) {
  ScopedStatement query = repeat("SELECT length(list) FROM lists WHERE package = ?");
  set_values(*query, package_row);
  return query->executeStep() ? query->getColumn(0).getInt64() : 0;
}

/// Where more leaves than stays, and nothing is replaced by another version, the index is emptied and gets what stays:
/// nobody needs to know what paths those that leave had. To be called when they have left and nothing has come. False:
/// nothing was done.
bool Connection::renew_if_most_leave(const std::vector<PackageChange>& changes, IndexRows& rows) {
  constexpr std::int64_t kMany = 64 << 10;  // bytes of their lists
  std::int64_t leaving = 0, staying = 0;
  for (const PackageChange& one : changes) {
    if (!one.before || one.before->shelved) continue;
    const bool is_here = one.after && !one.after->shelved;
    if (is_here && one.before_row != one.after_row) return false;
    if (!is_here) leaving += list_size_of(*one.before_row);
  }
  if (leaving < kMany) return false;
  std::vector<std::pair<std::int64_t, std::int64_t>> stay;  // rows and slots of packages
  SQLite::Statement query(database, "SELECT id, slot FROM packages WHERE state = 'installed'");
  while (query.executeStep()) stay.emplace_back(query.getColumn(0).getInt64(), query.getColumn(1).getInt64());
  for (const auto& [row, slot] : stay) {
    staying += list_size_of(row);
    if (staying > leaving) return false;
  }
  database.exec("DELETE FROM paths; DELETE FROM more_paths");
  for (const auto& [row, slot] : stay) add_to(rows, slot, index_change({}, *list_of(row)));
  return true;
}

void Connection::index(IndexRows rows) {
  ScopedStatement drop = repeat("DELETE FROM paths WHERE hash = ? AND slot = ?");
  ScopedStatement drop_more = repeat("DELETE FROM more_paths WHERE hash = ? AND slot = ?");
  ScopedStatement next = repeat("SELECT slot FROM more_paths WHERE hash = ? LIMIT 1");
  ScopedStatement put = repeat("INSERT OR IGNORE INTO paths VALUES(?, ?)");
  ScopedStatement put_more = repeat("INSERT OR IGNORE INTO more_paths VALUES(?, ?)");
  // in the order of the table's own keys: each row goes beside the one before
  std::sort(rows.gone.begin(), rows.gone.end());
  std::sort(rows.come.begin(), rows.come.end());
  constexpr std::size_t kMany = 1000;
  if (rows.gone.size() > kMany) renew_if_most_goes(rows);
  for (const auto& [hash, slot] : rows.gone) {
    if (run(*drop, hash, slot) == 0) {
      run(*drop_more, hash, slot);
      continue;
    }
    set_values(*next, hash);  // the first owner went: another one comes in its place
    const auto heir = next->executeStep() ? std::optional(next->getColumn(0).getInt64()) : std::nullopt;
    next->reset();
    if (!heir) continue;
    run(*drop_more, hash, *heir);
    run(*put, hash, *heir);
  }
  for (const auto& [hash, slot] : rows.come)
    if (run(*put, hash, slot) == 0) run(*put_more, hash, slot);
}

std::int64_t Connection::slot_of(std::int64_t package_row) {
  ScopedStatement query = repeat("SELECT slot FROM packages WHERE id = ?");
  set_values(*query, package_row);
  if (!query->executeStep()) throw Error(ErrorCode::Internal, fmt::format("no package row {}", package_row), path);
  return query->getColumn(0).getInt64();
}

std::int64_t Connection::new_slot() {
  if (!next_slot) next_slot = database.execAndGet("SELECT 1 + coalesce(max(slot), 0) FROM packages").getInt64();
  return (*next_slot)++;
}

void Connection::put_into(std::int64_t slot, std::int64_t package_row) {
  ScopedStatement update = repeat("UPDATE packages SET slot = ? WHERE id = ?");
  const int put = run(*update, slot, package_row);
  HAMBREL_ASSERT(put == 1, "it has a row");
}

std::int64_t Connection::insert_package(const StatePackage& package, const FileList& files, const char* state) {
  ScopedStatement insert = repeat(
      "INSERT INTO packages(name, version, arch, manifest, reason, origin, digest, time, state, acts, configs)"
      " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  run(*insert, package.package.name, package.package.version.text(), package.package.arch,
      manifest_text(package.package), std::string(text_of(package.reason)), package.origin, package.digest,
      package.time, state, package.package.actions != nullptr, has_configuration(files));
  HAMBREL_ASSERT(!package.package.name.empty() && !package.package.arch.empty(), "a package has a name");
  const std::int64_t row = database.getLastInsertRowid();
  HAMBREL_ASSERT(row > 0, "rows are numbered from 1");
  ScopedStatement put = repeat("INSERT INTO lists VALUES(?, ?)");
  put->bind(1, row);
  put->bindNoCopy(2, files.bytes().data(), static_cast<int>(files.bytes().size()));
  put->exec();
  return row;
}

void Connection::lists_from_rows() {
  std::vector<std::pair<std::int64_t, bool>> packages;
  SQLite::Statement all(database, "SELECT id, state = 'installed' FROM packages");
  while (all.executeStep()) packages.emplace_back(all.getColumn(0).getInt64(), all.getColumn(1).getInt() != 0);
  SQLite::Statement query(database,
                          "SELECT d.path, f.name, f.type, f.mode, f.user, f.grp, f.mtime, f.size, f.digest, f.target,"
                          " f.attributes, f.config FROM files f JOIN directories d ON d.id = f.directory"
                          " WHERE f.package = ?");
  SQLite::Statement put(database, "INSERT INTO lists VALUES(?, ?)");
  IndexRows rows;
  for (const auto& [row, installed] : packages) {
    std::vector<FileEntry> files;
    set_values(query, row);
    while (query.executeStep()) {
      FileEntry entry;
      entry.path = query.getColumn(0).getString();
      if (!entry.path.empty()) entry.path.push_back('/');
      entry.path += query.getColumn(1).getString();
      entry.type = kind_from(query.getColumn(2).getInt64(), EntryType::HardLink, path);
      entry.mode = query.getColumn(3).getUInt();
      entry.user = query.getColumn(4).getString();
      entry.group = query.getColumn(5).getString();
      entry.mtime = query.getColumn(6).getInt64();
      entry.size = static_cast<std::uint64_t>(query.getColumn(7).getInt64());
      if (const auto digest = query.getColumn(8); digest.getBytes() == static_cast<int>(entry.digest.bytes.size()))
        std::memcpy(entry.digest.bytes.data(), digest.getBlob(), entry.digest.bytes.size());
      entry.target = query.getColumn(9).getString();
      if (const std::string text = query.getColumn(10).getString(); !text.empty()) {
        const Json attributes = parse_json(text, path);
        for (const auto& [key, value] : attributes.items())
          entry.attributes.emplace(key, from_base64(value.get<std::string>()).value_or(""));
      }
      entry.config = query.getColumn(11).getInt() != 0;
      files.push_back(std::move(entry));
    }
    query.reset();
    const FileList list = FileList::of(files);
    put.bind(1, row);
    put.bind(2, list.bytes().data(), static_cast<int>(list.bytes().size()));
    put.exec();
    put.reset();
    if (installed) add_to(rows, row, index_change({}, list));
  }
  index(std::move(rows));
  query.reset();
  all.reset();
  database.exec("DROP TABLE files; DROP TABLE directories");
}

}  // namespace hambrel::state
