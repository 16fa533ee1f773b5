// checkpoint make, list and drop.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/commands/tidy_attic.h"
#include "cli/show/plan.h"
#include "operations/keeping.h"

namespace hambrel::cli {

namespace {

/// What the attic keeps because of it: everything since.
ByteCount attic_of(const state::Checkpoint& one, const std::vector<txn::StandingAttic>& attics) {
  ByteCount bytes = 0;
  for (const txn::StandingAttic& attic : attics)
    if (number(attic.attic.id) > number(one.after)) bytes += attic.attic.bytes.value_or(0);
  return bytes;
}

Json json_of(const state::Checkpoint& one, ByteCount attic) {
  Json files = Json::array();
  for (const auto& file : one.files) files.push_back("/" + file.path);
  return {{"name", one.name},           {"attic", attic},     {"after", number(one.after)},
          {"time", utc_text(one.time)}, {"reason", one.note}, {"configuration", files}};
}

std::string files_of(const state::Checkpoint& one) {
  ByteCount size = 0;
  for (const auto& file : one.files) size += file.size;
  return one.files.empty()
             ? std::string("no configuration")
             : fmt::format("{}, {}", count_text(one.files.size(), "configuration file", "configuration files"),
                           size_text(size));
}

int list(Session& session) {
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
  const auto all = state == nullptr ? std::vector<state::Checkpoint>() : state->checkpoints();
  const auto attics = all.empty() ? std::vector<txn::StandingAttic>() : operations::standing_attics(session.root());
  Table table;
  for (const state::Checkpoint& one : all) {
    if (session.json())
      screen.line(canonical(json_of(one, attic_of(one, attics))));
    else
      table.row({{one.name, Style::Name},
                 {time_text(one.time), Style::Faint},
                 {fmt::format("after transaction {}", number(one.after))},
                 {files_of(one)},
                 {size_text(attic_of(one, attics)) + " of the attic"},
                 {printable(one.note), Style::Faint}});
  }
  table.print(screen);
  if (!session.json() && all.empty()) screen.line("There is no checkpoint.");
  return 0;
}

int make(Session& session, const Arguments& arguments, const std::string& name) {
  const state::Checkpoint made =
      operations::make_checkpoint(session.change(arguments), name, arguments.value("reason").value_or(""));
  if (session.json())
    session.screen().line(canonical(json_of(made, 0)));
  else if (!session.quiet())
    session.screen().line(fmt::format("Checkpoint {}: after transaction {}, {}; `{}` comes back here.", made.name,
                                      number(made.after), files_of(made),
                                      session.copyable("hambrel rollback " + made.name)));
  return 0;
}

int drop(Session& session, const Arguments& arguments, const std::string& name) {
  const auto all = session.change(arguments).state()->checkpoints();
  const auto found = std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.name == name; });
  if (found != all.end() && !session.json() && !session.quiet())
    session.screen().line(
        fmt::format("This forgets the checkpoint {} with {}; that can't be undone.", name, files_of(*found)));
  if (found != all.end()) ask_consent(session, arguments);
  operations::drop_checkpoint(session.changed(), name);
  if (session.json())
    session.screen().line(canonical({{"dropped", name}}));
  else if (!session.quiet())
    session.screen().line(fmt::format("{}: dropped", name));
  return 0;
}

}  // namespace

int run_checkpoint(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words[0] == "list" && words.size() == 1) return list(session);
  if (words[0] == "make" && words.size() == 2) return make(session, arguments, words[1]);
  if (words[0] == "drop" && words.size() == 2) return drop(session, arguments, words[1]);
  throw Error(ErrorCode::Usage, fmt::format("`hambrel checkpoint {}` is not known", printable(join(words, " "))), {},
              "there are `checkpoint make NAME`, `checkpoint list` and `checkpoint drop NAME`");
}

}  // namespace hambrel::cli
