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

/// As much of ids as tells keys apart for people.
std::string short_ids(const std::vector<std::string>& ids) {
  constexpr std::size_t kMost = 4, kShort = 16;
  if (ids.empty()) return "no signature";
  std::string text;
  for (std::size_t i = 0; i < std::min(ids.size(), kMost); ++i)
    text += (i == 0 ? "" : ", ") + printable(ids[i].substr(0, kShort));
  return ids.size() > kMost ? text + " and more" : text;
}

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

std::vector<std::string> SignedDocument::signers(const Role& role, const Keys& keys) const {
  std::set<PublicKey> known;
  std::vector<std::string> signers;
  for (const auto& [id, text] : signatures_) {
    const auto key = keys.find(id);
    if (key == keys.end() || std::find(role.keys.begin(), role.keys.end(), id) == role.keys.end()) continue;
    const auto signature = signature_from_hex(text);
    if (signature && key->second.verifies(canonical_, *signature) && known.insert(key->second).second)
      signers.push_back(id);
  }
  return signers;
}

void SignedDocument::require(const Role& role, const Keys& keys, const std::string& role_name) const {
  const std::size_t count = signers(role, keys).size();
  if (count >= role.threshold) return;
  std::vector<std::string> came;
  for (const auto& [id, text] : signatures_) came.push_back(id);
  throw Error(
      ErrorCode::Untrusted,
      fmt::format("{} of the {} keys{}", count == 0 ? "is not signed by any" : fmt::format("is signed by {}", count),
                  role_name, role.threshold == 1 ? "" : fmt::format("; {} are required", role.threshold)),
      where_,
      fmt::format("its keys are {}; it came with {}; somebody may have changed it on its way: try again later, "
                  "else tell its maintainer",
                  short_ids(role.keys), short_ids(came)));
}

void SignedDocument::require_fresh(std::int64_t now, std::int64_t seen) const {
  if (std::max(now, seen) < expires()) return;
  const std::string by = now < seen ? fmt::format("it was {} when something was verified last", utc_text(seen))
                                    : fmt::format("it is {}", utc_text(now));
  throw Error(ErrorCode::Untrusted, fmt::format("expired at {} ({})", content_.at("expires").get<std::string>(), by),
              where_,
              "check the clock of this machine; if it is right, newer documents are held back or were not made: try "
              "again later, then tell the repository's maintainer");
}

}  // namespace hambrel::trust
