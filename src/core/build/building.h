// Building packages from a recipe: what would be done, and doing it.
//
// Nothing of the system is changed: what is made are package files. A build that fails says in which step, and leaves
// its log; one that is interrupted leaves nothing else.
#pragma once

#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "build/outputs.h"
#include "build/sources.h"
#include "build/steps.h"

namespace hambrel::build {

struct BuildRequest {
  std::string recipe;  // of the host: a folder, or recipe.toml
  std::vector<std::string> with{}, without{};
  std::vector<std::string>
      package_files{};              // of the host: package files, or directories of such, that may be used, too
  OutputTerms output{};             // epoch: found out
  unsigned jobs = 0;                // 0: as many as there are processors
  bool host_tools = false;          // no build root: the machine's own programs and libraries
  bool with_check = true;           // run the step `check`
  bool keep = false;                // the directory of the build stays where it fails
  bool check_reproducible = false;  // build twice, and compare
};

/// A source, as it would be had.
struct PlannedSource {
  std::string name, from;  // "saltdb-2.1.tar.zst", its URL or the path beside the recipe
  bool is_here = false;    // nothing is fetched
  bool is_signed = false;
  std::size_t patches = 0;
};

/// What would be done.
struct BuildPlan {
  const Recipe* recipe = nullptr;
  Digest digest;  // of the folder of the recipe
  Switches switches{};
  std::vector<PlannedSource> sources{};
  BuildRoot root{};
  std::vector<StepKind> steps{};
};

struct BuildFailure {
  StepFailure step;
  std::string log;   // of the host
  std::string kept;  // of the host: the directory of the build; empty: it is gone
  /// The last lines that it printed.
  std::vector<std::string> last_lines(std::size_t most) const;
};

struct BuildOutcome {
  std::vector<MadePackage> packages;
  StepTimes times;
  std::string log;  // of the host
  ByteCount fetched = 0;
  bool is_reproducible = false;  // was compared
};

class Build {
 public:
  /// Reads the recipe. Throws Error{NotFound}, Error{Invalid} with file:line, Error{Usage} for an unknown option.
  Build(operations::Root& root, BuildRequest request);
  ~Build();
  Build(const Build&) = delete;
  Build& operator=(const Build&) = delete;

  const RecipeFolder& folder() const { return folder_; }
  Workshop& workshop() { return workshop_; }
  /// Throws Error{Refused} where its needs can't be met.
  BuildPlan plan();
  /// A shell in the directory of the last build of it that was kept, as its steps ran. Throws Error{NotFound}.
  os::ProgramEnd look_around();
  /// Throws Error{Network}, Error{Untrusted} for sources, Error{Refused} for needs, Error{Declined} where it was
  /// asked to stop, Error{Invalid} where what was installed is not what the recipe says.
  std::variant<BuildOutcome, BuildFailure> perform(const BuildEvents& events);

 private:
  class Log;
  std::variant<BuildOutcome, BuildFailure> run(const BuildRoot& made, const std::string& directory, Log& log,
                                               const BuildEvents& events);
  std::vector<std::string> package_files() const;
  BuildRootTerms root_terms(const BuildEvents& events) const;
  std::optional<StepFailure> put_patches(StepRunner& steps, const std::string& work, const BuildEvents& events);
  void require_same(const BuildOutcome& first, const BuildOutcome& second) const;

  operations::Root& root_;
  BuildRequest request_;
  RecipeFolder folder_;
  Switches switches_;
  std::vector<Source> sources_;
  Workshop workshop_;
  std::unique_ptr<Bench> bench_;
};

}  // namespace hambrel::build
