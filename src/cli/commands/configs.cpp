// configs: the configuration files of this root, what differs, and settling what waits.
#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/configuration.h"

namespace hambrel::cli {

namespace {

int list(Session& session, const Arguments& arguments) {
  std::set<operations::ConfigState> states;
  for (const std::string& word : arguments.values("state")) states.insert(parse_config_state(word));
  show(session, operations::configuration_files(session.root()), states);
  return 0;
}

int settle(Session& session, const Arguments& arguments) {
  if (!arguments.has("configs") && (arguments.has("yes") || session.json()))
    throw Error(ErrorCode::Usage, "no choice was given for these files", {},
                "add --configs keep, take or merge, or leave out --yes to be asked");
  open_for(session, arguments);
  operations::SettleRequest request;
  request.paths = {arguments.words().begin() + 1, arguments.words().end()};
  request.terms = config_terms(session, arguments);
  request.planned = planned_terms(arguments);
  return carry_out(session, arguments, operations::propose(session.root(), request));
}

}  // namespace

int run_configs(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words.empty()) return list(session, arguments);
  if (words[0] == "settle") return settle(session, arguments);
  if (words[0] != "diff" || words.size() != 2)
    throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel configs {}`", printable(join(words, " "))), {},
                "use `hambrel configs`, `configs diff PATH` and `configs settle [PATH...]`");
  show(session, operations::compare_configuration(session.root(), words[1], arguments.value("against").value_or("")));
  return 0;
}

}  // namespace hambrel::cli
