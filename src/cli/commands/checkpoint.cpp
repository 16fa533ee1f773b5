// checkpoint make, list and drop.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/rows.h"
#include "operations/keeping.h"

namespace hambrel::cli {

namespace {

using operations::KeptCheckpoint;

Json to_json(const KeptCheckpoint& one) {
  Json files = Json::array();
  for (const auto& file : one.checkpoint.files) files.push_back("/" + file.path);
  return {{"name", one.checkpoint.name},           {"attic", one.attic},
          {"after", number(one.checkpoint.after)}, {"time", utc_text(one.checkpoint.time)},
          {"reason", one.checkpoint.note},         {"configuration", files}};
}

std::string files_of(const operations::Checkpoint& one) {
  ByteCount size = 0;
  for (const auto& file : one.files) size += file.size;
  if (one.files.empty()) return "no configuration";
  return fmt::format("{}, {}", count_text(one.files.size(), "configuration file", "configuration files"),
                     size_text(size));
}

int list(Session& session) {
  Rows rows(session);
  for (const KeptCheckpoint& one : operations::checkpoints(session.root()))
    rows.add([&] { return to_json(one); }, {{one.checkpoint.name, Style::Name},
                                            {time_text(one.checkpoint.time), Style::Faint},
                                            {fmt::format("after transaction {}", number(one.checkpoint.after))},
                                            {files_of(one.checkpoint)},
                                            {size_text(one.attic) + " of the attic"},
                                            {printable(one.checkpoint.note), Style::Faint}});
  rows.print("There are no checkpoints.");
  return 0;
}

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
  if (words[0] == "list" && words.size() == 1) return list(session);
  if (words[0] == "make" && words.size() == 2) return make(session, arguments, words[1]);
  if (words[0] == "drop" && words.size() == 2) return drop(session, arguments, words[1]);
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel checkpoint {}`", printable(join(words, " "))), {},
              "use `checkpoint make NAME`, `checkpoint list` and `checkpoint drop NAME`");
}

}  // namespace hambrel::cli
