#include "cli/show/differences.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/rows.h"

namespace hambrel::cli {

using operations::SetDifference;

std::size_t show(const Session& session, const std::vector<SetDifference>& differences) {
  Rows rows(session);
  for (const SetDifference& one : differences) {
    const auto side = [&](const std::string& text) { return text.empty() ? std::string("-") : printable(text); };
    rows.add(
        [&] {
          return Json{{"kind", text_of(one.kind)},
                      {"name", one.name},
                      {"here", one.here.empty() ? Json() : Json(one.here)},
                      {"there", one.there.empty() ? Json() : Json(one.there)}};
        },
        {{text_of(one.kind), one.kind == SetDifference::Kind::Package ? Style::Plain : Style::Faint},
         {printable(one.name), Style::Name},
         {"here"},
         {side(one.here), one.here.empty() ? Style::Faint : Style::Come},
         {"there"},
         {side(one.there), one.there.empty() ? Style::Faint : Style::Change}});
  }
  rows.print("No difference: packages, versions, holds, channels, picks and answers are the same.");
  return rows.count();
}

void show(const Session& session, const std::vector<operations::PickCandidate>& candidates) {
  Rows rows(session);
  for (const operations::PickCandidate& one : candidates) {
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
}

}  // namespace hambrel::cli
