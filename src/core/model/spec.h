// What a command accepts as the name of a package; `hambrel help specs` shows the grammar.
#pragma once

#include <string>
#include <string_view>

#include "model/relation.h"

namespace hambrel {

struct Spec {
  enum class Kind {
    Name,     // lampdesk, 'lampdesk>=6', group:signal-room: constraint, and of the last group
    Channel,  // lampdesk@beta: constraint.name and channel
    Path,     // /usr/bin/lampctl: text
    File,     // ./lampdesk.hambrel, or a URL of one: text
    Glob,     // 'lampdesk-*': text
  };
  Kind kind = Kind::Name;
  std::string text;  // as it was given
  Constraint constraint;
  std::string channel, group;
};

/// Throws Error{Usage} that says what was expected.
Spec parse_spec(std::string_view text);

}  // namespace hambrel
