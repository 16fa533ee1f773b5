// A small text language for universes and requests, for tests:
//
//   libbuoy 2              a package version that is on offer
//     requires a | b>=2    ... conflicts, provides, recommends, suggests, replaces: one constraint or relation a line
//     from repo/beta 70    its repository and channel, and the rank of that; with ! before it: not followed, with
//                          !! before it: not enabled
//     size 7 / installs 9 / parallel 2 / arch x86_64 / held / essential
//   *saltdb 1              installed and wanted; +saltdb 1: installed, pulled in; with "from" also on offer
#pragma once

#include <string>
#include <vector>

#include "base/text.h"
#include "model/universe.h"
#include "solve/request.h"

namespace hambrel::test {

inline void read_offer(Candidate& one, std::string_view text) {
  Offer offer;
  const bool disabled = text.starts_with("!!");
  while (text.starts_with("!")) {
    offer.followed = false;
    text.remove_prefix(1);
  }
  const auto slash = text.find('/'), space = text.find(' ');
  offer.repository = text.substr(0, slash);
  offer.channel = text.substr(slash + 1, space - slash - 1);
  if (space != std::string_view::npos) offer.rank = static_cast<std::uint32_t>(*parse_number(trim(text.substr(space))));
  offer.size = one.offers.empty() ? 1 : one.offers[0].size;
  offer.enabled = !disabled;
  one.offers.clear();
  (disabled ? one.elsewhere : one.offers).push_back(offer);
}

inline std::vector<Candidate> candidates(std::string_view text) {
  std::vector<Candidate> all;
  for (std::string_view line : split(text, '\n')) {
    const bool detail = line.starts_with("    ") || line.starts_with("\t") || (line.starts_with("  ") && !all.empty());
    line = trim(line);
    if (line.empty()) continue;
    if (!detail || line[0] == '*' || line[0] == '+') {
      Candidate one;
      const bool installed = line[0] == '*' || line[0] == '+';
      if (installed) {
        one.installed = Installed{static_cast<std::int64_t>(all.size()) + 1,
                                  line[0] == '*' ? Reason::Wanted : Reason::PulledIn,
                                  "test",
                                  0,
                                  {},
                                  {}};
        line.remove_prefix(1);
      } else {
        read_offer(one, "repo/stable 50");
      }
      const auto space = line.find(' ');
      one.package.name = line.substr(0, space);
      one.package.version = Version::parse(trim(line.substr(space))).value();
      one.package.arch = "independent";
      all.push_back(std::move(one));
      continue;
    }
    Package& package = all.back().package;
    const auto space = line.find(' ');
    const std::string_view kind = line.substr(0, space),
                           rest = space == std::string_view::npos ? "" : trim(line.substr(space));
    if (kind == "requires") package.requires_.push_back(parse_relation(rest, "test"));
    if (kind == "recommends") package.recommends.push_back(parse_relation(rest, "test"));
    if (kind == "suggests") package.suggests.push_back(parse_relation(rest, "test"));
    if (kind == "conflicts") package.conflicts.push_back(parse_constraint(rest, "test"));
    if (kind == "provides") package.provides.push_back(parse_constraint(rest, "test"));
    if (kind == "replaces") package.replaces.push_back(parse_constraint(rest, "test"));
    if (kind == "from") read_offer(all.back(), rest);
    if (kind == "size") all.back().offers.at(0).size = *parse_number(rest);
    if (kind == "installs") package.installed_size = *parse_number(rest);
    if (kind == "parallel") package.parallel = static_cast<std::uint32_t>(*parse_number(rest));
    if (kind == "essential") package.essential = true;
    if (kind == "arch") package.arch = rest;
    if (kind == "held") all.back().installed.value().hold = Hold{};
  }
  return all;
}

inline Universe universe(std::string_view text, std::vector<std::string> architectures = {}) {
  return Universe(candidates(text), std::move(architectures));
}

/// The reverse, for failures.
inline std::string text_of(const Universe& universe) {
  std::string text;
  for (const PackageId id : universe.all()) {
    const Candidate& one = universe[id];
    if (one.installed) text += one.installed->reason == Reason::Wanted ? "*" : "+";
    text += one.package.title() + "\n";
    for (const Relation& r : one.package.requires_) text += "    requires " + r.text() + "\n";
    for (const Relation& r : one.package.recommends) text += "    recommends " + r.text() + "\n";
    for (const Constraint& c : one.package.conflicts) text += "    conflicts " + c.text() + "\n";
    for (const Constraint& c : one.package.provides) text += "    provides " + c.text() + "\n";
    for (const Constraint& c : one.package.replaces) text += "    replaces " + c.text() + "\n";
  }
  return text;
}

/// "allow b" (to go, though it is essential), "install a>=2", "remove b", "upgrade" or "upgrade b", "except c", "drop
/// strays", "plain" (no recommended ones).
inline solve::Request request(const Universe& universe, const std::vector<std::string>& words) {
  solve::Request result;
  for (const std::string& line : words) {
    const auto space = line.find(' ');
    const std::string verb = line.substr(0, space), rest = space == std::string::npos ? "" : line.substr(space + 1);
    if (verb == "install") {
      solve::Target target{rest, universe.matching(parse_constraint(rest, "test"))};
      std::erase_if(target.candidates, [&](PackageId id) {
        return !universe.is_installed(id) && !universe.offered(id) && rest.find('=') == std::string::npos;
      });
      result.install.push_back(std::move(target));
    }
    if (verb == "remove") result.remove.insert(rest);
    if (verb == "except") result.except.insert(rest);
    if (verb == "release") result.release.insert(rest);
    if (verb == "allow") result.allow_essential.insert(rest);
    if (verb == "drop") result.drop_strays = true;
    if (verb == "plain") result.recommended = false;
    if (verb == "upgrade" && rest.empty()) result.upgrade_all = true;
    if (verb == "upgrade" && !rest.empty()) result.upgrade.insert(rest);
  }
  return result;
}

}  // namespace hambrel::test
