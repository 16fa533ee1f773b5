#include "trust/signing.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/amounts.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::trust {

namespace {

constexpr Root::Of kRoles[] = {Root::Of::Root, Root::Of::Timestamp, Root::Of::Snapshot, Root::Of::Targets};

}  // namespace

std::int64_t validity(Root::Of role) {
  switch (role) {
    case Root::Of::Root: return 365 * kDay;
    case Root::Of::Timestamp: return 7 * kDay;
    case Root::Of::Snapshot:
    case Root::Of::Targets: return 90 * kDay;
  }
  return 0;
}

std::string make_first_root(const KeyRing& ring, std::int64_t now, const std::string& where) {
  Json keys = Json::object(), roles = Json::object();
  for (const Root::Of role : kRoles) {
    const char* const name = Root::name_of(role);
    Json ids = Json::array();
    for (const auto& [file, key] : ring) {
      if (!file.starts_with(name)) continue;
      const PublicKey half = key.public_key();
      keys[half.id()] = half.document();
      ids.push_back(half.id());
    }
    if (ids.empty())
      throw Error(ErrorCode::NotFound, fmt::format("there is no key for {}", name), where,
                  fmt::format("`hambrel key new {}/{}.key` makes one", where, name));
    roles[name] = {{"keyids", ids}, {"threshold", 1}};
  }
  SignedDocument document = SignedDocument::make({{"_type", "root"},
                                                  {"spec_version", kSpecVersion},
                                                  {"version", 1},
                                                  {"expires", utc_text(now + validity(Root::Of::Root))},
                                                  {"consistent_snapshot", true},
                                                  {"keys", std::move(keys)},
                                                  {"roles", std::move(roles)}});
  for (const auto& [file, key] : ring)
    if (file.starts_with(Root::name_of(Root::Of::Root))) document.sign(key);
  return document.text();
}

void sign_as(SignedDocument& document, const Root& root, Root::Of which, const KeyRing& ring) {
  const Role& role = root.role(which);
  std::vector<std::string> missing = role.keys;
  for (const auto& [file, key] : ring) {
    const std::string id = key.public_key().id();
    if (std::find(role.keys.begin(), role.keys.end(), id) == role.keys.end()) continue;
    document.sign(key);
    std::erase(missing, id);
  }
  const std::size_t made = document.signers(role, root.keys()).size();
  if (made >= role.threshold) return;
  throw Error(
      ErrorCode::Refused,
      fmt::format("{} needs {}, and {} at hand", Root::name_of(which), count_text(role.threshold, "key", "keys"),
                  made == 0 ? "none is" : fmt::format("{} is", made)),
      {}, "nothing was published; missing is one of: " + join(missing, ", "));
}

}  // namespace hambrel::trust
