// The repositories of a root: added, dropped, enabled, disabled, refreshed.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"
#include "operations/whats_new.h"
#include "repo/mirrors.h"

namespace hambrel::operations {

using repo::CachedIndex;
using repo::MirrorMeasure;
using repo::RefreshResult;
using repo::Spread;
using settings::name_for;
using settings::Repository;

/// All of them, by name, as the cache knows them.
const std::vector<CachedIndex>& repositories(Root& root);
/// Throws Error{Usage} for what can't be, Error{Refused} for a name that is taken.
void require_addable(Root& root, const Repository& repository);
/// A repository's file that is to be added: as it says, and its text.
struct GivenRepository {
  Repository repository;
  std::string text;  // empty: there is no file
};
/// Reads one of the host. Throws Error{NotFound}, Error{Invalid} with file:line.
GivenRepository repository_in(const std::string& file, const std::string& name);
/// Throws Error{Usage} for a name, a URL, a channel or a rank that can't be, Error{Refused} for a name that is taken.
void add_repository(Root& root, const GivenRepository& given);
/// Installed packages that nobody else offers, in any version that this root may install.
std::vector<std::string> only_from(Root& root, const std::string& repository);
/// Its files and its index in the cache. Throws Error{NotFound}.
void drop_repository(Root& root, const std::string& name);
/// Throws Error{NotFound}.
void set_enabled(Root& root, const std::string& name, bool enabled);

/// The same for a repository that is signed: from its first root document on. Nothing is added if that can't be kept.
struct OfferedRoot;
void add_repository(Root& root, const GivenRepository& given, const OfferedRoot& first);

/// The first root document of a repository, as it is served now; whether to trust it is the administrator's decision.
struct OfferedRoot {
  std::uint64_t version = 0;
  std::int64_t expires = 0;      // seconds
  std::string fingerprint;       // 64 hexadecimal digits
  std::string fingerprint_text;  // the same in groups
  struct Role {
    std::string name;
    std::size_t threshold = 0;
    std::vector<std::string> keys;  // ids
  };
  std::vector<Role> roles;
  std::string document;
};
/// Throws Error{NotFound} where the repository has none.
OfferedRoot offered_root(Root& root, const Repository& repository);
/// Throws Error{NotFound} for a name that is none.
const Repository& repository_named(Root& root, const std::string& name);
/// It is trusted from now on: what is fetched is verified by it and what follows it. What was fetched before is not
/// used any more.
void trust_root(Root& root, const std::string& name, const OfferedRoot& first);

/// What is known of a repository.
struct RepositoryFacts {
  CachedIndex index;
  ByteCount bytes = 0;                     // of its index in the cache
  std::size_t installed = 0, offered = 0;  // names that are installed from it, names that it offers
  struct Role {
    std::string name;
    std::size_t threshold = 0;
    std::vector<std::string> keys;  // ids
    std::uint64_t version = 0;      // the highest number seen; 0: none
    std::int64_t expires = 0;       // seconds; 0: not known
  };
  std::uint64_t root = 0;        // the number of the newest root document; 0: none is trusted
  std::string fingerprint_text;  // of the one that was trusted first, in groups
  std::vector<Role> roles;
  std::string damage;                         // what is known of its trust is damaged
  std::vector<repo::MirrorFailure> failures;  // of those of its mirrors that failed when they were last asked
};
RepositoryFacts facts_of(Root& root, const std::string& name);
/// What is damaged of what is known of its trust; empty: nothing is.
std::string trust_damage(Root& root, const std::string& name);
/// In two words: why what a repository offers is not vouched for; empty: it is.
const char* doubt_of(const CachedIndex& index);

/// Fetches the indexes of these repositories, or without names of all that are enabled. A failure of one stands in its
/// result. Throws Error{NotFound} for a name that is none.
/// `whats_new`: is told what they brought.
std::vector<RefreshResult> refresh(Root& root, const std::vector<std::string>& names, WhatsNew* whats_new = nullptr);

/// How its mirrors compare, best first. Throws Error{NotFound}.
std::vector<MirrorMeasure> compare_mirrors(Root& root, const std::string& name);
/// Writes which mirrors are used from now on, in this order, and which are kept for the next comparison.
void use_mirrors(Root& root, const std::string& name, const std::vector<std::string>& used,
                 const std::vector<std::string>& spare);

/// Of the enabled repositories that a plan stands on, the one that was looked at longest ago, where that is longer than
/// `max_age` in hambrel.toml.
struct OldIndex {
  std::string repository;
  std::int64_t fetched = 0;  // seconds
};
std::optional<OldIndex> oldest_index(Root& root);

/// How many installed packages could be renewed.
std::size_t count_newer(Root& root);

}  // namespace hambrel::operations
