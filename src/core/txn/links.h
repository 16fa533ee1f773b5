// Candidates: several packages can serve one path; a link leads from there to the one that was picked, or else to the
// one with the highest rank. The links are the system's, not a package's: they are planned anew with every change.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "txn/transaction.h"

namespace hambrel::txn {

/// A file that can serve a path.
struct LinkCandidate {
  std::string path, file, package;
  std::int64_t rank = 0;
  std::vector<Candidacy::Link> with{};
};

/// By path, the best first: by rank, then by the package's name, then by file.
using Candidates = std::map<std::string, std::vector<LinkCandidate>>;
/// Adds those of a package.
void add_candidates(Candidates& all, const std::string& package, const Actions& actions);

/// The one that serves, given what was picked ("" or nothing: none).
const LinkCandidate& serving(const std::vector<LinkCandidate>& of_path,
                             const std::map<std::string, std::string>& picks);

/// Where a link at `path` has to lead for `file`: relative, so that it holds wherever the root is.
std::string link_target(const std::string& path, const std::string& file);

/// Links, and directories that were made for them, that have no candidate any more: they go with what served them.
std::vector<std::string> links_without(const state::State& state, const Candidates& all);

/// Adds the links to what is planned: `all` are the candidates that there are then. Throws Error{Refused} for a path
/// that belongs to a package.
void plan_links(os::FileReader& root, const state::State& state, const Candidates& all, Planned& planned);

}  // namespace hambrel::txn
