// What a root of the system knows of a signed repository: the root document that the administrator trusted first, and
// the newest of its documents that were verified since.
//
//   etc/hambrel/trust/NAME/root.json           the administrator's decision
//   var/lib/hambrel/trust/NAME/state.json      the root document at the end of the chain, the numbers that were seen,
//   and
//                                              when; replaced as a whole
// Invariants: nothing older than what was seen is accepted again, unless the root exchanged the keys that it was signed
// with; time does not go back behind what was seen. A state that belongs to another first root document than the one in
// etc counts for nothing: whoever restores /etc, or trusts anew, begins anew.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "os/file_system.h"
#include "trust/root.h"

namespace hambrel::repo {

inline constexpr const char* kFirstTrust = "etc/hambrel/trust";
inline constexpr const char* kVerified = "var/lib/hambrel/trust";

class TrustedRepository {
 public:
  /// Nothing where no root document of the repository was ever trusted. Throws Error{Invalid} or Error{Untrusted} for
  /// what is damaged.
  static std::optional<TrustedRepository> read(os::FileReader& root, const std::string& name);
  /// The administrator trusts this document from now on, and nothing that was seen before counts.
  static void trust(os::FileSystem& root, const std::string& name, const trust::Root& first);
  static void forget(os::FileSystem& root, const std::string& name);

  /// Was one ever trusted? Without reading it.
  static bool is_trusted(os::FileReader& root, const std::string& name);

  const trust::Root& root() const { return root_; }
  /// The fingerprint of what was trusted first.
  const std::string& first() const { return anchor_; }
  /// What is known of the documents of a role: the highest number, and when that one expires, seconds; 0: none was
  /// seen.
  struct Seen {
    std::uint64_t version = 0;
    std::int64_t expires = 0;
  };
  const Seen& seen(trust::Root::Of role) const { return seen_[static_cast<std::size_t>(role)]; }
  /// Below the repository: the root document that would come next.
  std::string next_root_path() const;
  /// Goes on to the next root document. Throws Error{Untrusted}.
  void advance(std::string_view text, const std::string& where);
  /// Is the newest root document still good? Throws Error{Untrusted}.
  void require_fresh(std::int64_t now) const;
  /// Would the root document and the timestamp that were seen last be accepted now?
  bool is_fresh(std::int64_t now) const;
  /// Throws Error{Untrusted} for a document that is not signed as the root asks, that has expired or that is older than
  /// what was seen. `known`: its signatures were verified before, by this root document. Returns it.
  trust::SignedDocument verify(std::string_view text, trust::Root::Of role, const std::string& where, std::int64_t now,
                               bool known = false);
  /// What was verified is remembered. Not written where nothing but the time is new, and that by less than an hour.
  void store(os::FileSystem& root, std::int64_t now);

 private:
  TrustedRepository(std::string name, std::string anchor, trust::Root root)
      : name_(std::move(name)), anchor_(std::move(anchor)), root_(std::move(root)) {}

  std::string name_, anchor_;  // anchor_: the fingerprint of what was trusted first
  trust::Root root_;
  std::array<Seen, 4> seen_{};  // by role
  std::int64_t time_ = 0;       // when something was verified last, as it was stored
  bool changed_ = false;        // since it was stored
};

}  // namespace hambrel::repo
