// A recipe: how packages are built from source (docs/recipe.md). Plain values and the reading of recipe.toml.
//
// Reading is strict: nothing unknown passes, and every complaint names file:line. {name} and {version} are put in
// wherever they stand; the other placeholders of steps are checked here and put in when they are run (placeholders.h).
#pragma once

#include <array>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/digest.h"
#include "model/manifest.h"

namespace hambrel::build {

inline constexpr const char* kRecipeFile = "recipe.toml";
inline constexpr std::uint64_t kMostRecipeBytes = 1ULL << 20;

struct Source {
  std::string url;                     // http, https or file; or
  std::string file;                    // a file or a directory beside recipe.toml
  std::optional<Digest> digest;        // SHA-256 of the file; always there with a URL
  std::string key;                     // beside recipe.toml: the public key that signed it; empty: nobody did
  std::string signature_url;           // of an Ed25519 signature over the file
  bool unpack = true;                  // an archive is unpacked; else the file is put there as it is
  std::string into;                    // below the directory of the sources; "" is that itself
  std::vector<std::string> patches{};  // files beside recipe.toml, put on in this order
  std::string at{};                    // "file:line"
  /// What it is called in messages and in the cache.
  std::string name() const;
};

struct Needs {
  std::vector<Relation> tools{};      // programs that run while it is built
  std::vector<Relation> libraries{};  // that it is linked against
};

struct Option {
  std::string text;
  bool is_on = false;  // unless somebody says otherwise
  // with the option on, in addition:
  Needs needs{};
  std::vector<Source> sources{};
  std::vector<Relation> requires_{};  // of the first package
};

enum class StepKind { Configure, Build, Check, Install };
inline constexpr std::array<StepKind, 4> kSteps{StepKind::Configure, StepKind::Build, StepKind::Check,
                                                StepKind::Install};
std::string_view text_of(StepKind kind);

/// Command lines, or a script for /bin/sh.
struct Step {
  std::vector<std::vector<std::string>> commands{};
  std::string script{};
  std::string at{};  // "file:line"
  bool empty() const { return commands.empty() && script.empty(); }
};

/// A package that comes out.
struct Output {
  PackageSource package;
  std::vector<std::string> files{};  // globs of paths in the stage; none: what no other output takes
  std::set<std::string> without{};   // found relations that are left out
  std::string only_with{};           // an option: only made where that is on
  std::string at{};                  // "file:line"
};

struct Recipe {
  Package usual;  // name, version with revision, architecture and texts, as far as outputs do not say otherwise
  std::optional<std::int64_t> date{};  // of what is made, seconds since 1970
  std::vector<Source> sources{};
  Needs needs{};
  std::map<std::string, Option> options{};
  std::array<Step, kSteps.size()> steps{};
  std::string directory{};                           // in which steps run, below that of the sources
  std::map<std::string, std::string> environment{};  // of the steps
  std::vector<Output> outputs{};                     // at least one

  const std::string& name() const { return usual.name; }
  const Step& step(StepKind kind) const { return steps[static_cast<std::size_t>(kind)]; }
};

/// Throws Error{Invalid} with file:line. `machine`: the architecture of what does not say otherwise.
Recipe parse_recipe(std::string_view text, const std::string& file, const std::string& machine);

/// Which options are on.
using Switches = std::map<std::string, bool>;
/// As the recipe has them, but for those that are named. Throws Error{Usage} for one that there is not.
Switches switches_of(const Recipe& recipe, const std::vector<std::string>& with,
                     const std::vector<std::string>& without);
/// What a version has at its end where options are not as the recipe has them: "+sound", "+nojit.sound"; else nothing.
/// So packages that differ have different versions, and one can be exchanged for the other.
std::string suffix_of(const Recipe& recipe, const Switches& switches);
/// With the options that are on.
std::vector<Source> sources_of(const Recipe& recipe, const Switches& switches);
Needs needs_of(const Recipe& recipe, const Switches& switches);

}  // namespace hambrel::build
