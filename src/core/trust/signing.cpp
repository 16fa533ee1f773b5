#include "trust/signing.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/amounts.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::trust {

std::optional<Root::Of> role_named(std::string_view name) {
  for (const Root::Of role : kRoles)
    if (name == Root::name_of(role)) return role;
  return std::nullopt;
}

std::int64_t validity(Root::Of role, const Validities& given) {
  if (const auto found = given.find(role); found != given.end()) return found->second;
  switch (role) {
    case Root::Of::Root: return 365 * kDay;
    case Root::Of::Timestamp: return 7 * kDay;
    case Root::Of::Snapshot:
    case Root::Of::Targets: return 90 * kDay;
  }
  return 0;
}

namespace {

/// The keys at hand that are named for a role, put among all; their ids.
Json keys_for(Root::Of role, const KeyRing& ring, const std::string& where, Json& keys) {
  const char* const name = Root::name_of(role);
  Json ids = Json::array();
  for (const auto& [file, key] : ring) {
    if (!file.starts_with(name)) continue;
    const PublicKey half = key.public_key();
    if (keys.contains(half.id()) && std::find(ids.begin(), ids.end(), half.id()) != ids.end()) continue;
    keys[half.id()] = half.document();
    ids.push_back(half.id());
  }
  if (ids.empty())
    throw Error(ErrorCode::NotFound, fmt::format("there is no key for {}", name), where,
                fmt::format("`hambrel key new {}/{}.key` makes one", where.empty() ? "keys" : where, name));
  return ids;
}

void set_thresholds(Json& roles, const Thresholds& thresholds) {
  for (const auto& [role, threshold] : thresholds) {
    Json& one = roles[Root::name_of(role)];
    const std::size_t keys = one.at("keyids").size();
    if (threshold == 0 || threshold > keys)
      throw Error(ErrorCode::Usage,
                  fmt::format("{} has {}: {} of them can't sign", Root::name_of(role), count_text(keys, "key", "keys"),
                              threshold),
                  {}, "give --threshold a number from 1 to that of its keys");
    one["threshold"] = threshold;
  }
}

SignedDocument root_document(std::uint64_t version, std::int64_t now, Json keys, Json roles,
                             const Thresholds& thresholds, const Validities& validities) {
  set_thresholds(roles, thresholds);
  // keys that no role names any more are left out
  Json used = Json::object();
  for (const Json& role : roles)
    for (const Json& id : role.at("keyids"))
      used[id.get_ref<const std::string&>()] = keys.at(id.get_ref<const std::string&>());
  return SignedDocument::make({{"_type", "root"},
                               {"spec_version", kSpecVersion},
                               {"version", version},
                               {"expires", utc_text(now + validity(Root::Of::Root, validities))},
                               {"consistent_snapshot", true},
                               {"keys", std::move(used)},
                               {"roles", std::move(roles)}});
}

}  // namespace

SignedDocument make_first_root(const KeyRing& ring, std::int64_t now, const std::string& where,
                               const Thresholds& thresholds, const Validities& validities) {
  Json keys = Json::object(), roles = Json::object();
  for (const Root::Of role : kRoles)
    roles[Root::name_of(role)] = {{"keyids", keys_for(role, ring, where, keys)}, {"threshold", 1}};
  return root_document(1, now, std::move(keys), std::move(roles), thresholds, validities);
}

SignedDocument make_next_root(const Root& before, const std::vector<Root::Of>& rotated, const KeyRing& ring,
                              std::int64_t now, const std::string& where, const Thresholds& thresholds,
                              const Validities& validities) {
  Json keys = before.document().content().at("keys"), roles = before.document().content().at("roles");
  for (const Root::Of role : rotated) {
    Json& one = roles[Root::name_of(role)];
    one["keyids"] = keys_for(role, ring, where, keys);
    one["threshold"] = std::min(one.at("threshold").get<std::size_t>(), one.at("keyids").size());
  }
  return root_document(before.version() + 1, now, std::move(keys), std::move(roles), thresholds, validities);
}

std::optional<Missing> missing_of(const SignedDocument& document, const Role& role, const Keys& keys,
                                  const char* name) {
  const auto made = document.signers(role, keys);
  if (made.size() >= role.threshold) return std::nullopt;
  Missing missing{name, made.size(), role.threshold, role.keys};
  std::erase_if(missing.keys,
                [&](const std::string& id) { return std::find(made.begin(), made.end(), id) != made.end(); });
  return missing;
}

std::optional<Missing> sign_as(SignedDocument& document, const Root& root, Root::Of which, const KeyRing& ring) {
  const Role& role = root.role(which);
  for (const auto& [file, key] : ring) {
    const std::string id = key.public_key().id();
    if (std::find(role.keys.begin(), role.keys.end(), id) != role.keys.end()) document.sign(key);
  }
  return missing_of(document, role, root.keys(), Root::name_of(which));
}

}  // namespace hambrel::trust
