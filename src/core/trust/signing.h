// Making the documents of a signed repository: its roots, one after the other, and signatures by the keys at hand.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "trust/root.h"

namespace hambrel::trust {

inline constexpr std::int64_t kDay = 24LL * 3600;  // seconds
inline constexpr Root::Of kRoles[] = {Root::Of::Root, Root::Of::Targets, Root::Of::Snapshot, Root::Of::Timestamp};
/// Nothing for a text that is none.
std::optional<Root::Of> role_named(std::string_view name);

/// How long a document is good for from its making, seconds; what is not said here as validity() has it.
using Validities = std::map<Root::Of, std::int64_t>;
/// Short for what is renewed by a machine.
std::int64_t validity(Root::Of role, const Validities& given = {});

/// Keys at hand, by the names of their files, or by ROLE=FILE.
using KeyRing = std::vector<std::pair<std::string, PrivateKey>>;

/// How many of a role's keys have to sign, where it is not as it was (of a first root: 1).
using Thresholds = std::map<Root::Of, std::size_t>;

/// Root number 1, without signatures: a key is one of the role whose name its file's name begins with. Throws
/// Error{NotFound} where a role has none, Error{Usage} for a threshold that can't be reached.
SignedDocument make_first_root(const KeyRing& ring, std::int64_t now, const std::string& where,
                               const Thresholds& thresholds = {}, const Validities& validities = {});
/// The next after a root, without signatures: the keys of these roles are those at hand that are named so. Throws as
/// before.
SignedDocument make_next_root(const Root& before, const std::vector<Root::Of>& rotated, const KeyRing& ring,
                              std::int64_t now, const std::string& where, const Thresholds& thresholds = {},
                              const Validities& validities = {});

/// What a document still lacks.
struct Missing {
  std::string role;  // whose keys have to sign
  std::size_t made = 0, needed = 0;
  std::vector<std::string> keys{};  // ids: those of the role that have not signed
};
/// Signs with what the role may be signed with.
std::optional<Missing> sign_as(SignedDocument& document, const Root& root, Root::Of role, const KeyRing& ring);
/// The same, where nothing more is signed.
std::optional<Missing> missing_of(const SignedDocument& document, const Role& role, const Keys& keys, const char* name);

}  // namespace hambrel::trust
