// A document of a repository with its signatures: {"signed": {...}, "signatures": [{"keyid": ..., "sig": ...}, ...]}.
//
// Signatures are over the canonical form of "signed", whatever the form in which the document came: what was read is
// what was signed. Invariant of require(): of the keys that a role names as many different ones as its threshold signed
// this very content; a key counts once, however often or under however many ids it comes.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include <nlohmann/json.hpp>

#include "trust/key.h"

namespace hambrel::trust {

inline constexpr const char* kSpecVersion = "1.0.33";  // of TUF

using Keys = std::map<std::string, PublicKey>;  // by id

struct Role {
  std::vector<std::string> keys;  // ids
  std::size_t threshold = 1;
  bool operator==(const Role&) const = default;
};

class SignedDocument {
 public:
  /// Throws Error{Invalid} for what has not this form, or another type (empty: any that there is) or version of the
  /// standard.
  static SignedDocument parse(std::string_view text, std::string_view type, const std::string& where);
  /// One that nobody has signed yet.
  static SignedDocument make(nlohmann::json content);

  const nlohmann::json& content() const { return content_; }
  std::uint64_t version() const;
  std::int64_t expires() const;  // seconds
  /// SHA-256 of what is signed.
  std::string fingerprint() const;
  std::string text() const;
  std::size_t signatures() const { return signatures_.size(); }

  /// Adds a signature, in place of an earlier one of the same key.
  void sign(const PrivateKey& key);
  /// The keys of a role that signed this: the first id of each.
  std::vector<std::string> signers(const Role& role, const Keys& keys) const;
  /// Throws Error{Untrusted} unless enough of them did.
  void require(const Role& role, const Keys& keys, const std::string& role_name) const;
  /// Throws Error{Untrusted} if it has expired at `now`, in seconds, or at the later time `seen` at which something of
  /// the repository was verified before.
  void require_fresh(std::int64_t now, std::int64_t seen = 0) const;

 private:
  nlohmann::json content_;
  std::string canonical_, where_;
  std::vector<std::pair<std::string, std::string>> signatures_;  // key id, what stands there
};

}  // namespace hambrel::trust
