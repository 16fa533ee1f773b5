#include "base/assert.h"

#include <fmt/format.h>

#include <string_view>

#include "base/error.h"

namespace hambrel {

void assertion_failed(const char* condition, const char* what, const char* file, int line) {
  const std::string_view path(file);
  throw Error(ErrorCode::Internal, fmt::format("an assumption does not hold: {}", what),
              fmt::format("{}:{}: {}", path.substr(path.rfind('/') + 1), line, condition),
              "please report this with the command and the output of `hambrel ledger`");
}

}  // namespace hambrel
