// Running the steps of a recipe: each command line in a sandbox of its own (os/preview.h), in which the build root can
// only be read, there is no network, and nothing can be written to but the directory of the build, at /run/build.
//
// They run as a user of no rights. What is left running when a command ends is ended.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "build/build_root.h"
#include "build/placeholders.h"
#include "build/recipe.h"
#include "os/preview.h"
#include "settings/settings.h"

namespace hambrel::build {

/// Of the build root: where the directory of the build is.
inline constexpr const char* kWork = "/run/build";
inline constexpr const char* kSourceDirectory = "source";  // below it
inline constexpr const char* kStageDirectory = "stage";
/// The user and the group that steps run as where this process is root: no other one has these numbers.
inline constexpr std::uint32_t kBuilder = 1'911'017;

/// What goes on, for whoever watches and for the log.
struct BuildEvents {
  std::function<void(StepKind, const std::string& command)> begin = [](StepKind, const std::string&) {};
  std::function<void(std::string_view)> printed = [](std::string_view) {};
  std::function<bool()> stop_asked = [] { return false; };
};

/// At most so many bytes of it, cut between words.
std::string shortened(const std::string& command, std::size_t most);

struct StepFailure {
  StepKind kind = StepKind::Build;
  std::string command;  // as it was run
  os::ProgramEnd end;
  /// "make -j2 ended with code 2"
  std::string text() const;
};

struct StepTimes {
  std::array<std::int64_t, kSteps.size()> milliseconds{};
};

class StepRunner {
 public:
  /// `work`: the directory of the build, on the host; `merged`: an empty one.
  StepRunner(const BuildRoot& root, std::string work, std::string merged, const settings::BuildRules& rules);

  /// All steps in order, but for those that are left out. Nothing: all of them succeeded.
  std::optional<StepFailure> run(const Recipe& recipe, const Values& values, std::int64_t epoch, bool with_check,
                                 const BuildEvents& events);
  /// One command in the directory of the sources, as a step would run it.
  os::ProgramEnd run_command(std::vector<std::string> words, const std::string& script, const BuildEvents& events);
  /// A shell for whoever sits at the terminal, with no limit of time.
  os::ProgramEnd run_shell();
  const StepTimes& times() const { return times_; }
  /// In the build root; empty: it has none. Of a name without '/', in the usual directories.
  std::string find_program(const std::string& name);

 private:
  os::Preview preview() const;
  os::PreviewLimits limits() const;

  const BuildRoot& root_;
  const std::string work_, merged_;
  const settings::BuildRules& rules_;
  std::unique_ptr<os::FileSystem> files_;  // of the build root
  std::vector<std::string> environment_;
  std::string directory_;
  StepTimes times_;
};

}  // namespace hambrel::build
