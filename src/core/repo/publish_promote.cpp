#include "repo/publish_promote.h"

#include <fmt/format.h>

#include <set>

#include "base/error.h"
#include "base/text.h"
#include "repo/publish_contents.h"

namespace hambrel::repo {

namespace {

constexpr const char* kRepositoryFile = "repository.toml";

/// Versions of a package that lie in the repository, each once.
std::vector<Version> versions_of(os::FileReader& directory, const std::string& name) {
  const std::string below = "packages/" + name;
  std::vector<Version> versions;
  std::set<std::string> seen;
  if (!directory.stat_followed(below)) return versions;
  for (const std::string& file : directory.list(below)) {  // VERSION.ARCH.hambrel
    constexpr std::string_view kEnd = ".hambrel";
    if (!file.ends_with(kEnd)) continue;
    const std::string stem = file.substr(0, file.size() - kEnd.size());
    const std::string text = stem.substr(0, stem.rfind('.'));
    const auto version = Version::parse(text);
    if (version && seen.insert(text).second) versions.push_back(*version);
  }
  return versions;
}

}  // namespace

std::vector<std::string> promote(os::FileSystem& directory, const std::string& spec, const std::string& from,
                                 const std::string& to) {
  for (const std::string& channel : {from, to})
    if (!is_package_name(channel))
      throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the name of a channel", printable(channel)), {},
                  "for example: hambrel publish DIR --promote lampdesk beta stable");
  Constraint wanted;
  try {
    wanted = parse_constraint(spec, "");
  } catch (const Error& problem) {
    throw Error(ErrorCode::Usage, problem.problem(), {}, problem.hint());
  }
  const RepositorySettings settings = read_repository_settings(directory);
  std::vector<std::string> moved;
  std::string rule;
  for (const Version& version : versions_of(directory, wanted.name)) {
    if (!wanted.allows(version) || channel_for(wanted.name, version, settings.rules) != from) continue;
    moved.push_back(fmt::format("{} {}", wanted.name, version.text()));
    rule += fmt::format("{}\"{} = {}\"", rule.empty() ? "" : ", ", wanted.name, version.text());
  }
  if (moved.empty())
    throw Error(ErrorCode::Refused, fmt::format("no version of {} is in {}", wanted.text(), from),
                directory.shown(kRepositoryFile), "check the name, the version and the channel");
  std::string text = directory.stat(kRepositoryFile) ? directory.read_itself(kRepositoryFile, 1 << 20) : "";
  const auto first = ("\n" + text).find("\n[[channel]]");
  const std::string added = fmt::format("[[channel]]\nname = \"{}\"\npackages = [{}]\n\n", to, rule);
  if (!text.empty() && first == std::string::npos && !text.ends_with('\n')) text += '\n';
  text.insert(first == std::string::npos ? text.size() : first, added);
  if (directory.stat(kRepositoryFile))
    directory.edit_file(kRepositoryFile, text, 0644);
  else
    directory.replace_file(kRepositoryFile, text, 0644);
  return moved;
}

}  // namespace hambrel::repo
