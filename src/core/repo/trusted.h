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

#include <algorithm>
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

  const trust::Root& root() const { return root_; }
  /// Below the repository: the root document that would come next.
  std::string next_root_path() const;
  /// Goes on to the next root document. Throws Error{Untrusted}.
  void advance(std::string_view text, const std::string& where);
  /// Is the newest root document still good? Throws Error{Untrusted}.
  void require_fresh(std::int64_t now) const;
  /// Throws Error{Untrusted} for a document that is not signed as the root asks, that has expired or that is older than
  /// what was seen. Returns its number.
  std::uint64_t verify(std::string_view text, trust::Root::Of role, const std::string& where, std::int64_t now);
  /// What was verified is remembered.
  void store(os::FileSystem& root, std::int64_t now) const;

 private:
  TrustedRepository(std::string name, std::string anchor, trust::Root root)
      : name_(std::move(name)), anchor_(std::move(anchor)), root_(std::move(root)) {}
  std::int64_t not_before(std::int64_t now) const { return std::max(now, time_); }

  std::string name_, anchor_;  // anchor_: the fingerprint of what was trusted first
  trust::Root root_;
  std::array<std::uint64_t, 4> seen_{};  // by role: the highest number
  std::int64_t time_ = 0;                // when something was verified last
};

}  // namespace hambrel::repo
