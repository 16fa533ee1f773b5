#include "cli/package_view.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "model/manifest.h"
#include "repo/download.h"
#include "repo/index.h"
#include "repo/transfer.h"

namespace hambrel::cli {

Json brief_json(const Universe& universe, PackageId id) {
  const Candidate& one = universe[id];
  Json object = {{"name", one.package.name},
                 {"version", one.package.version.text()},
                 {"arch", one.package.arch},
                 {"summary", one.package.summary},
                 {"installed", one.installed.has_value()},
                 {"installed_size", one.package.installed_size}};
  if (one.installed) {
    object["reason"] = text_of(one.installed->reason);
    object["origin"] = one.installed->origin;
    if (const auto newer = universe.newer_offer(id)) object["newer"] = universe.package(*newer).version.text();
  }
  Json offers = Json::array();
  for (const Offer& offer : one.offers)
    offers.push_back({{"repository", offer.repository}, {"channel", offer.channel}, {"size", offer.size}});
  object["offers"] = std::move(offers);
  return object;
}

Json entry_json(const FileEntry& entry) {
  static constexpr const char* kTypes[] = {"file", "directory", "symlink", "hardlink"};
  Json object = {{"path", "/" + entry.path},
                 {"type", kTypes[static_cast<int>(entry.type)]},
                 {"mode", fmt::format("{:04o}", entry.mode)},
                 {"user", entry.user},
                 {"group", entry.group},
                 {"mtime", entry.mtime},
                 {"config", entry.config}};
  if (entry.type == EntryType::File) object["size"] = entry.size, object["sha256"] = entry.digest.hex();
  if (!entry.target.empty()) object["target"] = entry.target;
  return object;
}

namespace {

/// Of a package that has just been fetched.
std::shared_ptr<const archive::Table> table_in_cache(Session& session, PackageId id) {
  const std::string path = repo::cache_path(session.universe().package(id));
  const archive::PackageReader reader(session.root().open(path), session.root().shown(path));
  if (reader.footer().table_digest != session.universe()[id].offers.front().table_digest)
    throw Error(ErrorCode::Untrusted, "is not the package that the index names", session.root().shown(path),
                "run `hambrel refresh`; if it stays, tell who keeps the repository");
  return reader.shared_table();
}

}  // namespace

std::map<PackageId, std::shared_ptr<const archive::Table>> tables_of(Session& session,
                                                                     const std::vector<PackageId>& ids,
                                                                     std::vector<PackageId>* damaged) {
  const Universe& universe = session.universe();
  std::map<PackageId, std::shared_ptr<const archive::Table>> tables;
  std::vector<PackageId> asked;
  std::vector<std::string> texts(ids.size());
  std::vector<repo::Request> requests;
  for (const PackageId id : ids) {
    const Package& package = universe.package(id);
    if (const auto* reader = session.file_reader(id)) {
      tables.emplace(id, reader->shared_table());
      continue;
    }
    if (const auto* const kept = session.kept(id)) {
      auto table = std::make_shared<archive::Table>();
      for (FileEntry& file : session.present()->files_of(kept->row)->entries())
        table->entries.push_back(archive::Entry{std::move(file)});
      tables.emplace(id, std::move(table));
      continue;
    }
    const Offer& offer = universe[id].offers.front();
    if (repo::in_cache(session.root(), package, offer)) {
      const std::string path = repo::cache_path(package);
      try {
        const archive::PackageReader reader(session.root().open(path), session.root().shown(path));
        if (reader.footer().table_digest == offer.table_digest) {
          tables.emplace(id, reader.shared_table());
          continue;
        }
      } catch (const Error& problem) {  // a cache is not a safe: what is damaged is fetched again
        session.progress().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
        if (damaged != nullptr) damaged->push_back(id);
      }
    }
    const auto found = std::find_if(session.repositories().begin(), session.repositories().end(),
                                    [&](const auto& one) { return one.name == offer.repository; });
    if (found == session.repositories().end())
      throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", offer.repository), package.title(),
                  "run `hambrel refresh`");
    std::string* const text = &texts[asked.size()];
    asked.push_back(id);
    repo::Request request;
    request.url = found->url + "/" + repo::package_url_path(package);
    request.limit = offer.table_size;
    request.range = std::pair(offer.table_offset, offer.table_size);
    request.sink = [text](std::string_view data) { *text += data; };
    request.pace = session.pace();
    request.only_range = true;
    requests.push_back(std::move(request));
  }
  Observer silent;
  repo::fetch_all(requests, session.settings().downloads, silent);
  std::vector<repo::Wanted> whole;
  for (std::size_t i = 0; i < requests.size(); ++i)
    if (requests[i].no_ranges) whole.push_back({universe.package(asked[i]), universe[asked[i]].offers.front()});
  if (!whole.empty()) {
    session.progress().note(fmt::format(
        "{}: the server sends whole files only, so {} fetched before the plan is made", shown_url(requests.front().url),
        whole.size() == 1 ? "1 package is" : fmt::format("{} packages are", whole.size())));
    repo::download(session.root(), whole, session.repositories(), session.settings().downloads, session.progress());
  }
  for (std::size_t i = 0; i < requests.size(); ++i) {
    if (requests[i].no_ranges) {
      tables.emplace(asked[i], table_in_cache(session, asked[i]));
      continue;
    }
    if (requests[i].problem) throw *requests[i].problem;
    const Offer& offer = universe[asked[i]].offers.front();
    tables.emplace(asked[i],
                   std::make_shared<const archive::Table>(archive::read_table(
                       texts[i], {offer.table_offset, offer.table_size, offer.table_digest}, requests[i].url)));
  }
  return tables;
}

std::vector<FileEntry> files_of(Session& session, PackageId id) {
  const Candidate& one = session.universe()[id];
  if (one.installed && session.file_reader(id) == nullptr)
    return session.looking()->files_of(one.installed->row)->entries();
  const auto table = tables_of(session, {id}).at(id);
  return {table->entries.begin(), table->entries.end()};
}

}  // namespace hambrel::cli
