// checkpoint make, list and drop.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/checkpoint.h"

namespace hambrel::cli {

namespace {

int make(Session& session, const Arguments& arguments, const std::string& name) {
  const auto made =
      operations::make_checkpoint(session.change(arguments), name, arguments.value("reason").value_or(""));
  session.say(to_json({made, 0}),
              fmt::format("Checkpoint {}: after transaction {}, {}; `{}` returns here.", made.name, number(made.after),
                          files_of(made), session.copyable("hambrel rollback " + made.name)));
  return 0;
}

int drop(Session& session, const Arguments& arguments, const std::string& name) {
  const auto all = operations::checkpoints(session.change(arguments));
  const auto found = std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.checkpoint.name == name; });
  if (found != all.end()) {
    if (!session.json() && !session.quiet())
      session.screen().line(
          fmt::format("This drops checkpoint {} with {}. It cannot be undone.", name, files_of(found->checkpoint)));
    ask_consent(session, arguments);
  }
  operations::drop_checkpoint(session.changed(), name);
  session.say({{"dropped", name}}, fmt::format("{}: dropped", name));
  return 0;
}

}  // namespace

int run_checkpoint(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words[0] == "list" && words.size() == 1) {
    show(session, operations::checkpoints(session.root()));
    return 0;
  }
  if (words[0] == "make" && words.size() == 2) return make(session, arguments, words[1]);
  if (words[0] == "drop" && words.size() == 2) return drop(session, arguments, words[1]);
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel checkpoint {}`", printable(join(words, " "))), {},
              "use `checkpoint make NAME`, `checkpoint list` and `checkpoint drop NAME`");
}

}  // namespace hambrel::cli
