#include "trust/root.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/digest.h"
#include "base/error.h"
#include "base/json.h"
#include "trust/canonical.h"

namespace hambrel::trust {

namespace {

constexpr std::size_t kMostKeys = 256;
constexpr std::array<const char*, 4> kNames{"root", "timestamp", "snapshot", "targets"};

[[noreturn]] void refuse(const std::string& what, const std::string& where) {
  throw Error(ErrorCode::Untrusted, what, where, "tell the repository's maintainer");
}

}  // namespace

const char* Root::name_of(Of role) { return kNames[static_cast<std::size_t>(role)]; }

Root::Root(std::string_view text, const std::string& where) : document_(SignedDocument::parse(text, "root", where)) {
  const JsonObject content(document_.content(), where);
  if (!content.flag_or("consistent_snapshot", false)) content.wrong("consistent_snapshot", "true");
  const Json& keys = content.member("keys");
  if (!keys.is_object() || keys.size() > kMostKeys)
    content.wrong("keys", fmt::format("an object of at most {}", kMostKeys));
  for (const auto& [id, value] : keys.items()) {
    const auto key = PublicKey::from_document(value, where);
    if (!key) continue;  // of a kind that is not used here: it signs nothing for us
    // of the object as it stands there, whatever else whoever made it has put in
    const std::string right_id = sha256(canonical_form(value, where)).hex();
    if (right_id != id) refuse(fmt::format("names a key {}, whose id is {}", id.substr(0, 64), right_id), where);
    keys_.emplace(id, *key);
  }
  const JsonObject roles(content.member("roles"), where);
  for (std::size_t i = 0; i < kNames.size(); ++i) {
    const JsonObject object(roles.member(kNames[i]), where);
    Role& role = roles_[i];
    role.keys = object.texts_or_none("keyids");
    role.threshold = object.number("threshold");
    const std::set<std::string> distinct(role.keys.begin(), role.keys.end());
    if (distinct.size() != role.keys.size()) refuse(fmt::format("names a key of {} twice", kNames[i]), where);
    for (const std::string& id : role.keys)
      if (!keys.contains(id)) refuse(fmt::format("names a key of {} that it does not have", kNames[i]), where);
    std::erase_if(role.keys, [&](const std::string& id) { return !keys_.contains(id); });
    if (role.threshold == 0 || role.threshold > role.keys.size())
      refuse(fmt::format("asks for {} of {} keys of {}", role.threshold, role.keys.size(), kNames[i]), where);
  }
}

Root Root::first(std::string_view text, const std::string& where) {
  Root root(text, where);
  root.document_.require(root.role(Of::Root), root.keys_, "root");
  return root;
}

Root Root::next(std::string_view text, const std::string& where) const {
  Root root(text, where);
  if (root.version() != version() + 1)
    refuse(fmt::format("is number {} where {} comes after {}", root.version(), version() + 1, version()), where);
  root.document_.require(role(Of::Root), keys_, fmt::format("root {}", version()));
  root.document_.require(root.role(Of::Root), root.keys_, fmt::format("root {}", root.version()));
  return root;
}

SignedDocument Root::verified(std::string_view text, Of which, const std::string& where) const {
  SignedDocument document = SignedDocument::parse(text, name_of(which), where);
  document.require(role(which), keys_, name_of(which));
  return document;
}

std::string grouped(std::string_view digits) {
  std::string text;
  for (std::size_t i = 0; i < digits.size(); i += 4) {
    if (i > 0) text += ' ';
    text += digits.substr(i, 4);
  }
  return text;
}

}  // namespace hambrel::trust
