// Small universes and requests at random.
#pragma once

#include <random>
#include <string>
#include <vector>

#include "base/text.h"
#include "solve/universe_text.h"

namespace hambrel::test {

/// A universe and what is asked of it, in words, so that it can be made smaller line by line.
struct Question {
  std::vector<std::string> universe, request;

  std::string text() const { return join(universe, "\n") + "\n---- " + join(request, ", ") + "\n"; }
};

/// Up to 4 names with up to 3 versions each, everything allowed.
inline Question random_question(std::mt19937& random) {
  const auto pick = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
  const std::string names = "abcd";
  Question question;
  const auto constraint = [&] {
    std::string c(1, "abcdv"[pick(5)]);
    static const char* const ops[] = {"", "", " = ", " < ", " >= ", " != "};
    const std::string op = ops[pick(6)];
    return op.empty() ? c : c + op + std::to_string(1 + pick(3));
  };
  auto& lines = question.universe;
  for (const char name : names) {
    const unsigned versions = pick(4), parallel = pick(12) == 0 ? 2 : 1;
    const unsigned installed = pick(2) == 0 ? 1 + pick(3) : 0;
    for (unsigned v = 1; v <= versions; ++v) {
      const bool there = installed == v || (parallel == 2 && pick(3) == 0);
      lines.push_back(std::string(there ? (pick(2) == 0 ? "*" : "+") : "") + name + " " + std::to_string(v));
      if (there && pick(8) == 0) lines.push_back("    held");
      if (there && pick(8) == 0) lines.push_back("    essential");
      if (parallel == 2) lines.push_back("    parallel 2");
      if (!there && pick(3) == 0) {
        const char* line = pick(2) == 0 ? "    from near/stable 10" : "    from far/stable 70";
        if (pick(3) == 0) line = "    from !repo/beta 50";
        lines.emplace_back(line);
      }
      if (!there && pick(3) == 0) lines.push_back("    size " + std::to_string(1 + pick(9)));
      for (unsigned n = pick(3); n > 0; --n)
        lines.push_back("    requires " + constraint() + (pick(3) == 0 ? " | " + constraint() : ""));
      if (pick(4) == 0) lines.push_back("    conflicts " + constraint());
      if (pick(4) == 0)
        lines.push_back("    provides v" + std::string(pick(2) == 0 ? " = " + std::to_string(1 + pick(3)) : ""));
      if (pick(8) == 0) lines.push_back("    replaces " + constraint());
      if (pick(4) == 0) lines.push_back("    recommends " + constraint());
    }
  }
  const Universe u = universe(join(lines, "\n"));
  for (const std::string& name : u.names()) {
    const auto roll = pick(8);
    if (roll == 0) question.request.push_back("install " + name);
    if (roll == 3 && u.installed_of(name)) question.request.push_back("allow " + name);
    if (roll == 1 && u.installed_of(name)) question.request.push_back("remove " + name);
    if (roll == 2 && u.installed_of(name) && pick(2) == 0) question.request.push_back("upgrade " + name);
  }
  const auto roll = pick(6);
  if (roll == 0) question.request.emplace_back("upgrade");
  if (roll == 1) question.request.insert(question.request.end(), {"upgrade", "drop strays"});
  if (roll == 2) question.request.emplace_back("plain");
  return question;
}

}  // namespace hambrel::test
