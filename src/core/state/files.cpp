// Packages and their files in the state.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/json.h"
#include "base/text.h"
#include "model/manifest.h"
#include "state/state_impl.h"

namespace hambrel::state {

namespace {

std::string attributes_text(const FileEntry& entry) {
  if (entry.attributes.empty()) return {};
  Json object = Json::object();
  for (const auto& [name, value] : entry.attributes) object[name] = to_base64(value);
  return canonical(object);
}

}  // namespace

FileEntry State::Impl::read_file(SQLite::Statement& row, int first) const {
  FileEntry entry;
  const auto directory = row.getColumn(first), name = row.getColumn(first + 1);
  entry.path.assign(directory.getText(), static_cast<std::size_t>(directory.getBytes()));
  if (!entry.path.empty()) entry.path.push_back('/');
  entry.path.append(name.getText(), static_cast<std::size_t>(name.getBytes()));
  entry.type = static_cast<EntryType>(row.getColumn(first + 2).getInt());
  entry.mode = row.getColumn(first + 3).getUInt();
  entry.user = row.getColumn(first + 4).getString();
  entry.group = row.getColumn(first + 5).getString();
  entry.mtime = row.getColumn(first + 6).getInt64();
  entry.size = static_cast<std::uint64_t>(row.getColumn(first + 7).getInt64());
  const auto digest = row.getColumn(first + 8);
  if (digest.getBytes() == static_cast<int>(entry.digest.bytes.size()))
    std::memcpy(entry.digest.bytes.data(), digest.getBlob(), entry.digest.bytes.size());
  entry.target = row.getColumn(first + 9).getString();
  if (const std::string text = row.getColumn(first + 10).getString(); !text.empty()) {
    const Json attributes = parse_json(text, path);
    for (const auto& [key, value] : attributes.items())
      entry.attributes.emplace(key, from_base64(value.get<std::string>()).value_or(""));
  }
  entry.config = row.getColumn(first + 11).getInt() != 0;
  return entry;
}

std::vector<FileEntry> State::files_of(std::int64_t package_row) const {
  return guarded(impl_->path, [&] {
    std::vector<FileEntry> found;
    SQLite::Statement query(
        impl_->database,
        fmt::format("SELECT {} FROM files f JOIN directories d ON d.id = f.directory WHERE f.package = ?",
                    kFileColumns));
    query.bind(1, package_row);
    while (query.executeStep()) found.push_back(impl_->read_file(query, 0));
    std::vector<FileEntry*> order;  // entries are large: each is moved once
    order.reserve(found.size());
    for (FileEntry& entry : found) order.push_back(&entry);
    std::sort(order.begin(), order.end(), [](const FileEntry* a, const FileEntry* b) { return a->path < b->path; });
    std::vector<FileEntry> result;
    result.reserve(found.size());
    for (FileEntry* const entry : order) result.push_back(std::move(*entry));
    return result;
  });
}

std::vector<FileEntry> State::configuration_of(std::int64_t package_row) const {
  return guarded(impl_->path, [&] {
    std::vector<FileEntry> result;
    SQLite::Statement query(impl_->database,
                            fmt::format("SELECT {} FROM files f JOIN directories d ON d.id = f.directory"
                                        " WHERE f.package = ? AND f.config != 0 AND f.type = ? ORDER BY d.path, f.name",
                                        kFileColumns));
    query.bind(1, package_row);
    query.bind(2, static_cast<int>(EntryType::File));
    while (query.executeStep()) result.push_back(impl_->read_file(query, 0));
    return result;
  });
}

std::vector<OwnedFile> State::owners_of(std::string_view path) const {
  return guarded(impl_->path, [&] {
    if (!impl_->owners_query)
      impl_->owners_query.emplace(
          impl_->database, fmt::format("SELECT p.id, p.name, {} FROM directories d JOIN files f ON f.directory = d.id"
                                       " JOIN packages p ON p.id = f.package AND p.state = 'installed'"
                                       " WHERE d.path = ? AND f.name = ? ORDER BY p.name",
                                       kFileColumns));
    SQLite::Statement& query = *impl_->owners_query;
    const auto slash = path.rfind('/');
    query.bind(1, slash == std::string_view::npos ? std::string() : std::string(path.substr(0, slash)));
    query.bind(2, std::string(slash == std::string_view::npos ? path : path.substr(slash + 1)));
    std::vector<OwnedFile> result;
    while (query.executeStep())
      result.push_back({query.getColumn(0).getInt64(), query.getColumn(1).getString(), impl_->read_file(query, 2)});
    query.reset();
    return result;
  });
}

std::int64_t State::Impl::directory_row(const std::string& directory) {
  if (const auto known = find_directory(directory)) return *known;
  if (!directory_insert) directory_insert.emplace(database, "INSERT INTO directories(path) VALUES(?)");
  directory_insert->bind(1, directory);
  directory_insert->exec();
  directory_insert->reset();
  return database.getLastInsertRowid();
}

std::optional<std::int64_t> State::Impl::find_directory(const std::string& directory) {
  if (!directory_query) directory_query.emplace(database, "SELECT id FROM directories WHERE path = ?");
  directory_query->bind(1, directory);
  std::optional<std::int64_t> row;
  if (directory_query->executeStep()) row = directory_query->getColumn(0).getInt64();
  directory_query->reset();
  return row;
}

bool State::knows_directory(const std::string& directory) const {
  return guarded(impl_->path, [&] { return impl_->find_directory(directory).has_value(); });
}

std::set<std::string> State::shared_paths_of(std::int64_t package_row) const {
  return guarded(impl_->path, [&] {
    std::set<std::string> paths;
    SQLite::Statement query(
        impl_->database,
        "SELECT d.path, f.name FROM files f JOIN directories d ON d.id = f.directory WHERE f.package = ? AND EXISTS("
        "SELECT 1 FROM files g JOIN packages p ON p.id = g.package AND p.state = 'installed' WHERE"
        " g.directory = f.directory AND g.name = f.name AND g.package != f.package)");
    query.bind(1, package_row);
    while (query.executeStep()) {
      const std::string directory = query.getColumn(0).getString(), name = query.getColumn(1).getString();
      paths.insert(directory.empty() ? name : fmt::format("{}/{}", directory, name));
    }
    return paths;
  });
}

std::int64_t State::Impl::insert_package(const StatePackage& package, const std::vector<FileEntry>& files) {
  SQLite::Statement insert(database,
                           "INSERT INTO packages(name, version, arch, manifest, reason, origin, digest, time, state)"
                           " VALUES(?, ?, ?, ?, ?, ?, ?, ?, 'installed')");
  insert.bind(1, package.package.name);
  insert.bind(2, package.package.version.text());
  insert.bind(3, package.package.arch);
  insert.bind(4, manifest_text(package.package));
  insert.bind(5, std::string(text_of(package.reason)));
  insert.bind(6, package.origin);
  insert.bind(7, package.digest.hex());
  insert.bind(8, package.time);
  insert.exec();
  const std::int64_t row = database.getLastInsertRowid();
  // In the order of the tables' own keys: each row goes beside the one before.
  struct Row {
    std::int64_t directory;
    std::string name;
    const FileEntry* entry;
  };
  std::vector<Row> rows;
  rows.reserve(files.size());
  std::string last_directory = "/";
  std::int64_t directory = 0;
  for (const FileEntry& entry : files) {
    const auto slash = entry.path.rfind('/');
    const std::string parent = slash == std::string::npos ? "" : entry.path.substr(0, slash);
    if (parent != last_directory) directory = directory_row(parent), last_directory = parent;
    rows.push_back({directory, slash == std::string::npos ? entry.path : entry.path.substr(slash + 1), &entry});
  }
  std::sort(rows.begin(), rows.end(), [](const Row& a, const Row& b) {
    return a.directory != b.directory ? a.directory < b.directory : a.name < b.name;
  });
  SQLite::Statement put(database, "INSERT INTO files VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  for (const Row& one : rows) {
    const FileEntry& entry = *one.entry;
    const std::string attributes = attributes_text(entry);
    put.bind(1, row);
    put.bind(2, one.directory);
    put.bindNoCopy(3, one.name);
    put.bind(4, static_cast<int>(entry.type));
    put.bind(5, entry.mode);
    put.bindNoCopy(6, entry.user);
    put.bindNoCopy(7, entry.group);
    put.bind(8, entry.mtime);
    put.bind(9, static_cast<std::int64_t>(entry.size));
    if (entry.type == EntryType::File)
      put.bindNoCopy(10, entry.digest.bytes.data(), static_cast<int>(entry.digest.bytes.size()));
    else
      put.bind(10);
    put.bindNoCopy(11, entry.target);
    put.bindNoCopy(12, attributes);
    put.bind(13, entry.config ? 1 : 0);
    put.exec();
    put.reset();
  }
  return row;
}

}  // namespace hambrel::state
