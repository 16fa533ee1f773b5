#include "cli/show/checkpoint.h"

#include <fmt/format.h>

#include "base/amounts.h"
#include "base/json.h"
#include "base/text.h"
#include "cli/show/rows.h"

namespace hambrel::cli {

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

void show(const Session& session, const std::vector<KeptCheckpoint>& checkpoints) {
  Rows rows(session);
  for (const KeptCheckpoint& one : checkpoints)
    rows.add([&] { return to_json(one); }, {{one.checkpoint.name, Style::Name},
                                            {time_text(one.checkpoint.time), Style::Faint},
                                            {fmt::format("after transaction {}", number(one.checkpoint.after))},
                                            {files_of(one.checkpoint)},
                                            {size_text(one.attic) + " of the attic"},
                                            {printable(one.checkpoint.note), Style::Faint}});
  rows.print("There are no checkpoints.");
}

}  // namespace hambrel::cli
