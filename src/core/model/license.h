// Licences of packages: expressions of the SPDX specification (2.3, annex D), "MIT OR (GPL-2.0-only WITH X AND
// BSD-3-Clause)".
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace hambrel {

/// Is a licence named in an expression? A pattern with * and ?; upper and lower case are the same. A trailing + is of
/// no matter.
bool names_license(std::string_view expression, std::string_view pattern);
/// May all of it be used under licences that the SPDX licence list (3.20) marks as free (FSF) or approved (OSI)? Of
/// alternatives one is enough. An expression that is none, or empty, is not free.
bool is_free_license(std::string_view expression);

/// Can an expression be met only with a license of which one of the patterns (globs of ids, in any case) says that it
/// is refused? Of what is no expression, every id that it names counts; of none at all nothing is refused.
bool is_license_refused(std::string_view expression, const std::vector<std::string>& patterns);

}  // namespace hambrel
