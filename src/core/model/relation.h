// Constraints on packages and the relations between them, as written in manifests:
//
//   CONSTRAINT := NAME [OP VERSION]      OP := = | != | < | <= | > | >=
//   RELATION   := CONSTRAINT ('|' CONSTRAINT)*
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/version.h"

namespace hambrel {

enum class Operator { Any, Equal, NotEqual, Less, LessEqual, Greater, GreaterEqual };

std::string_view text_of(Operator op);

/// Names: [a-z0-9][a-z0-9+._-]*, at most 100 bytes.
bool is_package_name(std::string_view text);
/// What a group is called as a package: "group:signal-room", and with its optional members
/// "group:signal-room+optional".
inline constexpr std::string_view kGroup = "group:", kWithOptional = "+optional";
/// The name of a package or of a group.
bool is_installable_name(std::string_view text);

/// Does a version meet OP VERSION? Where `asked` names no revision, any revision matches. Texts must be valid versions.
bool version_allowed(Operator op, std::string_view asked, std::string_view candidate);

struct Constraint {
  std::string name;
  Operator op = Operator::Any;
  Version version;  // meaningless with Operator::Any

  /// Does a version meet this constraint?
  bool allows(const Version& candidate) const;
  std::string text() const;  // "libbuoy >= 2.3"
  bool operator==(const Constraint&) const = default;
};

/// At least one alternative is to be met.
struct Relation {
  std::vector<Constraint> alternatives;
  std::string text() const;  // "libbuoy >= 2.3 | libbuoy-static"
  bool operator==(const Relation&) const = default;
};

/// Throw Error{Invalid} with `where` and what was expected.
Constraint parse_constraint(std::string_view text, std::string_view where);
Relation parse_relation(std::string_view text, std::string_view where);
/// What a package may provide: NAME or NAME = VERSION.
Constraint parse_provided(std::string_view text, std::string_view where);

}  // namespace hambrel
