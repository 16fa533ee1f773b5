// Making the documents of a signed repository: its first root, and signatures by the keys at hand.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "trust/root.h"

namespace hambrel::trust {

inline constexpr std::int64_t kDay = 24LL * 3600;  // seconds
/// How long a document is good for from its making, seconds. Short for what is renewed by a machine.
std::int64_t validity(Root::Of role);

/// Keys at hand, by the names of their files.
using KeyRing = std::vector<std::pair<std::string, PrivateKey>>;

/// Root number 1: a key is one of the role whose name its file's name begins with; one key of each is enough. Throws
/// Error{NotFound} where a role has none.
std::string make_first_root(const KeyRing& ring, std::int64_t now, const std::string& where);

/// Signs with what the role may be signed with. Throws Error{Refused}, naming what is missing, where that is not
/// enough.
void sign_as(SignedDocument& document, const Root& root, Root::Of role, const KeyRing& ring);

}  // namespace hambrel::trust
