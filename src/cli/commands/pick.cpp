// pick: which candidate serves a path.
#include "operations/picks.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/rows.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

int list(Session& session, const std::string& path) {
  Rows rows(session);
  for (const operations::PickCandidate& one : operations::candidates(session.root(), path)) {
    const char* state = one.picked ? "picked" : "";
    if (one.serves) state = one.picked ? "serves, picked by you" : "serves";
    rows.add(
        [&] {
          return Json{{"path", "/" + one.path}, {"file", "/" + one.file}, {"package", one.package},
                      {"rank", one.rank},       {"serves", one.serves},   {"picked", one.picked}};
        },
        {{"/" + printable(one.path), Style::Name},
         {"/" + printable(one.file)},
         {one.package, Style::Faint},
         {fmt::format("rank {}", one.rank), Style::Plain, true},
         {state, one.serves ? Style::Come : Style::Plain}});
  }
  rows.print("No installed package is a candidate for anything.");
  return 0;
}

}  // namespace

int run_pick(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string path = words.empty() ? std::string() : os::host_path(words[0]);
  if (words.size() < 2) return list(session, path);
  open_for(session, arguments);
  operations::PickRequest request;
  request.path = path;
  request.choice = words[1];
  request.end = end_of(arguments);
  return carry_out(session, arguments, operations::propose(session.root(), request));
}

}  // namespace hambrel::cli
