#include "cli/commands/tidy_builds.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "build/from_source.h"
#include "cli/carry.h"
#include "cli/show/freeable.h"

namespace hambrel::cli {

namespace {

build::LeftByBuilds left_in(Session& session, build::Workshop& workshop) {
  build::LeftByBuilds left = build::left_in(workshop);
  if (!left.busy)
    for (build::LeftByBuilds::Item& one : build::earlier_made(session.root(), workshop))
      left.items.push_back(std::move(one));
  return left;
}

}  // namespace

std::vector<build::LeftByBuilds::Item> left_by_builds(Session& session) {
  const auto workshop = build::Workshop::find(session.root());
  return workshop ? left_in(session, *workshop).items : std::vector<build::LeftByBuilds::Item>();
}

int tidy_builds(Session& session, const Arguments& arguments) {
  const auto workshop = build::Workshop::find(session.root());
  const build::LeftByBuilds left = workshop ? left_in(session, *workshop) : build::LeftByBuilds{};
  if (left.items.empty()) {
    session.say(to_json(left.items, "nothing to do"),
                left.busy ? "Nothing to do: a build is under way, and uses what is there."
                          : "Nothing to do: no build has left anything.");
    return 0;
  }
  const auto show_it = [&] {
    if (session.json()) return session.document(to_json(left.items, "dry run"));
    print(session, left, workshop->path());
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  const ByteCount freed = build::clear(*workshop, left.items);
  session.say(to_json(left.items, "done"),
              fmt::format("\n{}: {} freed.", session.screen().paint(Style::Strong, "Done"), size_text(freed)));
  return 0;
}

}  // namespace hambrel::cli
