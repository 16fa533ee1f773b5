#include "cli/show/package.h"

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

}  // namespace hambrel::cli
