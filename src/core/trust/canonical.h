// The form of JSON that signatures are made over, as TUF 1.0 has it (canonical JSON of the OLPC project): members by
// their names' bytes, no blanks, of characters in texts only " and \ written with a backslash, whole numbers only.
#pragma once

#include <string>

#include <nlohmann/json_fwd.hpp>

namespace hambrel::trust {

/// Throws Error{Invalid} naming `where` for a number with a fraction.
std::string canonical_form(const nlohmann::json& value, const std::string& where);

}  // namespace hambrel::trust
