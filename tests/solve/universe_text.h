// A small text language for universes, for tests:
//
//   libbuoy 2            a package version that is on offer
//     requires a | b>=2  ... conflicts, provides, recommends, replaces: one constraint or relation a line
//   *saltdb 1            installed and wanted; +saltdb 1: installed, pulled in
#pragma once

#include <string>
#include <vector>

#include "base/text.h"
#include "model/universe.h"

namespace hambrel::test {

inline Universe universe(std::string_view text) {
  std::vector<Candidate> all;
  for (std::string_view line : split(text, '\n')) {
    const bool detail = line.starts_with("    ") || line.starts_with("\t") || (line.starts_with("  ") && !all.empty());
    line = trim(line);
    if (line.empty()) continue;
    if (!detail || line[0] == '*' || line[0] == '+') {
      Candidate one;
      const bool installed = line[0] == '*' || line[0] == '+';
      if (installed)
        one.installed = Installed{static_cast<std::int64_t>(all.size()) + 1,
                                  line[0] == '*' ? Reason::Wanted : Reason::PulledIn, "test", 0};
      if (installed) line.remove_prefix(1);
      const auto space = line.find(' ');
      one.package.name = line.substr(0, space);
      one.package.version = Version::parse(trim(line.substr(space))).value();
      one.package.arch = "any";
      if (!installed) one.offers.push_back({"repo", "stable", "", 50, true, 1, {}, 0, 0, {}});
      all.push_back(std::move(one));
      continue;
    }
    Package& package = all.back().package;
    const auto space = line.find(' ');
    const std::string_view kind = line.substr(0, space), rest = line.substr(space);
    if (kind == "requires") package.requires_.push_back(parse_relation(rest, "test"));
    if (kind == "recommends") package.recommends.push_back(parse_relation(rest, "test"));
    if (kind == "conflicts") package.conflicts.push_back(parse_constraint(rest, "test"));
    if (kind == "provides") package.provides.push_back(parse_constraint(rest, "test"));
    if (kind == "replaces") package.replaces.push_back(parse_constraint(rest, "test"));
  }
  return Universe(std::move(all));
}

/// The reverse, for failures.
inline std::string text_of(const Universe& universe) {
  std::string text;
  for (const PackageId id : universe.all()) {
    const Candidate& one = universe[id];
    text += !one.installed ? "" : one.installed->reason == Reason::Wanted ? "*" : "+";
    text += one.package.title() + "\n";
    for (const Relation& r : one.package.requires_) text += "    requires " + r.text() + "\n";
    for (const Relation& r : one.package.recommends) text += "    recommends " + r.text() + "\n";
    for (const Constraint& c : one.package.conflicts) text += "    conflicts " + c.text() + "\n";
    for (const Constraint& c : one.package.provides) text += "    provides " + c.text() + "\n";
    for (const Constraint& c : one.package.replaces) text += "    replaces " + c.text() + "\n";
  }
  return text;
}

}  // namespace hambrel::test
