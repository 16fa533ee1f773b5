#include "cli/show/older_versions.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

using operations::OlderVersion;
using operations::OlderVersions;

namespace {

Json versions_to_json(const Universe& universe, const OlderVersions& older) {
  Json list = Json::array();
  for (const OlderVersion& one : older.all) {
    Json& object = list.emplace_back(Json{{"version", universe.version(one.id)},
                                          {"where", one.where},
                                          {"download", one.fetch},
                                          {"installed_size", universe.installed_size(one.id)}});
    if (one.here != 0) object["installed_before"] = utc_text(one.here);
  }
  return {{"name", universe.name(older.installed)},
          {"installed", universe.version(older.installed)},
          {"choices", std::move(list)}};
}

}  // namespace

void show(Session& session, const OlderVersions& older) {
  const Universe& universe = session.universe();
  const Screen& screen = session.screen();
  if (session.json()) return session.document(versions_to_json(universe, older));
  screen.line(fmt::format(
      "{} {} is installed. Older versions available:", screen.paint(Style::Name, universe.name(older.installed)),
      universe.version(older.installed)));
  screen.line();
  Table table;
  for (std::size_t i = 0; i < older.all.size(); ++i) {
    const OlderVersion& one = older.all[i];
    table.row({{std::to_string(i + 1), Style::Strong, true},
               {universe.version(one.id), Style::Name},
               {one.where},
               {one.here == 0 ? "was never installed here" : "installed here " + time_text(one.here), Style::Faint},
               {one.fetch == 0 ? "nothing to fetch" : size_text(one.fetch) + " to fetch", Style::Plain, true}});
  }
  table.print(screen);
  screen.line();
}

}  // namespace hambrel::cli
