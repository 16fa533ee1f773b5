// repo and refresh.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "operations/repositories.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

int list_repositories(Session& session) {
  const Screen& screen = session.screen();
  Table table;
  for (const repo::CachedIndex& index : session.root().catalog().indexes) {
    const repo::Repository& one = index.repository;
    if (session.json()) {
      Json object = {{"name", one.name},           {"url", shown_url(one.url)}, {"channels", one.channels},
                     {"enabled", one.enabled},     {"rank", one.rank},          {"index", index.version},
                     {"packages", index.packages}, {"fetched", index.fetched}};
      if (!index.problem.empty()) object["problem"] = index.problem;
      screen.line(canonical(object));
      continue;
    }
    const std::string state = !one.enabled             ? "disabled"
                              : !index.problem.empty() ? index.problem
                                                       : fmt::format("index {}, {}, {}", index.version,
                                                                     count_text(index.packages, "version", "versions"),
                                                                     age_text(os::now(), index.fetched));
    table.row({{one.name, Style::Name},
               {join(one.channels, ",")},
               {fmt::format("rank {}", one.rank)},
               {state, one.enabled && !index.problem.empty() ? Style::Warn : Style::Plain},
               {printable(shown_url(one.url)), Style::Faint}});
  }
  table.print(screen);
  if (!session.json() && table.empty()) screen.line("No repository is set up. Add one: hambrel repo add NAME URL");
  return 0;
}

int add_repository(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  repo::Repository repository;
  repository.name = words[1];
  repository.url = repo::checked_url(words[2]);
  if (const auto channels = arguments.value("channels")) {
    repository.channels.clear();
    for (const std::string_view channel : split(*channels, ',')) {
      if (!is_package_name(channel))
        throw Error(ErrorCode::Usage,
                    fmt::format("--channels: \"{}\" is not the name of a channel", printable(channel)), {},
                    "for example --channels stable,beta");
      repository.channels.emplace_back(channel);
    }
  }
  if (const auto rank = arguments.value("rank")) {
    const auto value = parse_number(*rank);
    if (!value || *value < 1 || *value > 99)
      throw Error(ErrorCode::Usage, "--rank: a number from 1 to 99 was expected");
    repository.rank = static_cast<std::uint32_t>(*value);
  }
  repo::add_repository(session.files(), repository);
  if (session.json())
    session.screen().line(canonical({{"repository", repository.name}, {"result", "added"}}));
  else if (!session.quiet())
    session.screen().line(fmt::format("{} was added, following {}. Next: hambrel refresh", repository.name,
                                      join(repository.channels, ", ")));
  return 0;
}

void require_words(const Arguments& arguments, std::size_t count, const char* usage) {
  if (arguments.words().size() != count)
    throw Error(ErrorCode::Usage, fmt::format("`hambrel repo {}` was expected", usage), {},
                "`hambrel help repo` shows examples");
}

}  // namespace

int run_repo(Session& session, const Arguments& arguments) {
  const std::string& what = arguments.words()[0];
  if (what == "list") {
    require_words(arguments, 1, "list");
    return list_repositories(session);
  }
  if (what == "add") {
    require_words(arguments, 3, "add NAME URL");
    return add_repository(session, arguments);
  }
  if (what == "drop") {
    require_words(arguments, 2, "drop NAME");
    repo::drop_repository(session.files(), arguments.words()[1]);
  } else if (what == "enable" || what == "disable") {
    require_words(arguments, 2, "enable NAME");
    repo::set_enabled(session.files(), arguments.words()[1], what == "enable");
  } else {
    const std::string near = did_you_mean(what, {"list", "add", "drop", "enable", "disable"});
    throw Error(ErrorCode::Usage, fmt::format("`repo {}` is not known", printable(what)), {},
                near.empty() ? "there are: list, add, drop, enable, disable" : near);
  }
  const std::string result = what == "drop" ? "dropped" : what + "d";
  if (session.json())
    session.screen().line(canonical({{"repository", arguments.words()[1]}, {"result", result}}));
  else if (!session.quiet())
    session.screen().line(fmt::format("{}: {}", arguments.words()[1], result));
  return 0;
}

int run_refresh(Session& session, const Arguments& arguments) {
  const auto results = operations::refresh(session.root(), arguments.words());
  if (results.empty() && !session.json()) {
    session.screen().line("No repository is enabled. Add one: hambrel repo add NAME URL");
    return 0;
  }
  session.remember_installed();
  const Screen& screen = session.screen();
  int code = 0;
  Table table;
  for (const repo::RefreshResult& result : results) {
    if (result.problem) code = std::max(code, exit_code(result.problem->code()));
    if (session.json()) {
      Json object = {{"repository", result.repository}, {"url", result.url},           {"changed", result.changed},
                     {"index", result.version},         {"packages", result.packages}, {"fetched", result.fetched}};
      if (result.problem)
        object["problem"] = {
            {"text", result.problem->problem()}, {"where", result.problem->where()}, {"hint", result.problem->hint()}};
      screen.line(canonical(object));
      continue;
    }
    const std::string index = result.version == 0 ? "no index"
                                                  : fmt::format("index {}, {}", result.version,
                                                                count_text(result.packages, "version", "versions"));
    table.row({{result.repository, Style::Name},
               {result.problem   ? "failed"
                : result.changed ? "new"
                                 : "unchanged",
                result.problem   ? Style::Warn
                : result.changed ? Style::Come
                                 : Style::Plain},
               {result.problem ? (result.version == 0 ? "nothing of it can be used"
                                                      : fmt::format("the index of {} stays in use",
                                                                    age_text(os::now(), result.fetched)))
                               : index}});
  }
  if (session.json()) return code;
  if (!session.quiet()) table.print(screen);
  for (const repo::RefreshResult& result : results)
    if (result.problem) {
      screen.note(fmt::format("{}: {}: {}", screen.paint_error(Style::Warn, result.repository), result.problem->where(),
                              result.problem->problem()));
      if (!result.problem->hint().empty()) screen.hint(result.problem->hint());
    }
  const std::size_t newer = operations::count_newer(session.root());
  if (newer > 0 && !session.quiet())
    screen.line(fmt::format("{} can be renewed: hambrel list upgradable",
                            count_text(newer, "installed package", "installed packages")));
  return code;
}

}  // namespace hambrel::cli
