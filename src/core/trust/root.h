// The root of a repository's trust: which keys may sign which documents, and the chain from one such document to the
// next.
//
// Invariants: each key stands under its own id; every id that a role names is that of a key that is there; a role's
// threshold can be reached. The first root is the administrator's decision; each later one is signed as the one before
// asks, and as it asks itself, and its number is the next.
#pragma once

#include <string>
#include <string_view>

#include "trust/signed_document.h"

namespace hambrel::trust {

/// Hexadecimal digits in groups of four, as people compare them.
std::string grouped(std::string_view digits);

class Root {
 public:
  enum class Of { Root, Timestamp, Snapshot, Targets };
  static const char* name_of(Of role);

  /// Signed as it asks itself: one to begin with. Throws Error{Invalid} or Error{Untrusted}.
  static Root first(std::string_view text, const std::string& where);
  /// One whose signatures are not looked at: it was verified before, and kept since, or it is still being signed.
  static Root known(std::string_view text, const std::string& where) { return {text, where}; }
  /// The next after this one. An expired one may stand in the chain: only the last has to be fresh.
  Root next(std::string_view text, const std::string& where) const;

  std::uint64_t version() const { return document_.version(); }
  const SignedDocument& document() const { return document_; }
  const Keys& keys() const { return keys_; }
  const Role& role(Of which) const { return roles_[static_cast<std::size_t>(which)]; }
  /// Reads a document of another role. Throws Error{Untrusted} unless enough keys signed it.
  SignedDocument verified(std::string_view text, Of role, const std::string& where) const;
  /// The SHA-256 of what is signed, in groups of four digits.
  std::string fingerprint_text() const { return grouped(document_.fingerprint()); }

 private:
  Root(std::string_view text, const std::string& where);
  SignedDocument document_;
  Keys keys_;
  Role roles_[4];
};

}  // namespace hambrel::trust
