#include "trust/signed_document.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "base/amounts.h"
#include "base/digest.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "trust/canonical.h"

namespace hambrel::trust {

namespace {

constexpr std::size_t kMostSignatures = 256;
constexpr std::array<std::string_view, 4> kTypes{"root", "timestamp", "snapshot", "targets"};

}  // namespace

SignedDocument SignedDocument::parse(std::string_view text, std::string_view type, const std::string& where) {
  const Json whole = parse_json(text, where);
  const JsonObject object(whole, where);
  SignedDocument document;
  document.where_ = where;
  document.content_ = object.member("signed");
  const JsonObject content(document.content_, where);
  const std::string has = content.text("_type");
  if (type.empty() && std::find(kTypes.begin(), kTypes.end(), has) == kTypes.end())
    content.wrong("_type", "root, timestamp, snapshot or targets");
  if (!type.empty() && has != type) content.wrong("_type", fmt::format("\"{}\"", type));
  if (!content.text("spec_version").starts_with("1.")) content.wrong("spec_version", "1 and something");
  if (content.number("version") == 0) content.wrong("version", "a whole number from 1 on");
  if (!parse_utc(content.text("expires"))) content.wrong("expires", "a time like 2030-01-31T12:00:00Z");
  document.canonical_ = canonical_form(document.content_, where);
  const Json& signatures = object.member("signatures");
  if (!signatures.is_array() || signatures.size() > kMostSignatures)
    object.wrong("signatures", fmt::format("a list of at most {}", kMostSignatures));
  std::set<std::string> ids;
  for (const Json& one : signatures) {
    const JsonObject signature(one, where);
    document.signatures_.emplace_back(signature.text("keyid"), signature.text("sig"));
    if (!ids.insert(document.signatures_.back().first).second)
      throw Error(ErrorCode::Untrusted, "has two signatures under the same key id", where,
                  "tell the repository's maintainer");
  }
  return document;
}

SignedDocument SignedDocument::make(Json content) {
  SignedDocument document;
  document.canonical_ = canonical_form(content, "a document");
  document.content_ = std::move(content);
  return document;
}

std::uint64_t SignedDocument::version() const { return content_.at("version").get<std::uint64_t>(); }

std::int64_t SignedDocument::expires() const {
  return parse_utc(content_.at("expires").get_ref<const std::string&>()).value();
}

std::string SignedDocument::fingerprint() const { return sha256(canonical_).hex(); }

std::string SignedDocument::text() const {
  Json signatures = Json::array();
  for (const auto& [id, signature] : signatures_) signatures.push_back({{"keyid", id}, {"sig", signature}});
  return canonical({{"signed", content_}, {"signatures", std::move(signatures)}});
}

void SignedDocument::sign(const PrivateKey& key) {
  const std::string id = key.public_key().id();
  std::erase_if(signatures_, [&](const auto& one) { return one.first == id; });
  signatures_.emplace_back(id, hex(key.sign(canonical_)));
  std::sort(signatures_.begin(), signatures_.end());
}

std::size_t SignedDocument::count(const Role& role, const Keys& keys) const {
  std::set<PublicKey> signers;
  for (const auto& [id, text] : signatures_) {
    const auto key = keys.find(id);
    if (key == keys.end() || std::find(role.keys.begin(), role.keys.end(), id) == role.keys.end()) continue;
    const auto signature = signature_from_hex(text);
    if (signature && key->second.verifies(canonical_, *signature)) signers.insert(key->second);
  }
  return signers.size();
}

void SignedDocument::require(const Role& role, const Keys& keys, const std::string& role_name) const {
  const std::size_t signers = count(role, keys);
  if (signers >= role.threshold) return;
  throw Error(ErrorCode::Untrusted,
              fmt::format("has {} of {} where {} {} needed", count_text(signers, "valid signature", "valid signatures"),
                          role_name, role.threshold, role.threshold == 1 ? "is" : "are"),
              where_, "somebody between you and the repository may have changed it: tell its maintainer");
}

void SignedDocument::require_fresh(std::int64_t now) const {
  if (now < expires()) return;
  throw Error(ErrorCode::Untrusted, fmt::format("has expired at {}", content_.at("expires").get<std::string>()), where_,
              fmt::format("if the clock is right (it is {} here), a mirror may be holding back newer documents: try "
                          "again later or tell the repository's maintainer",
                          utc_text(now)));
}

}  // namespace hambrel::trust
