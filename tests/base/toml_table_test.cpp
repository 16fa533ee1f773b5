#include "base/toml_table.h"

#include <gtest/gtest.h>

#include <set>
#include <string>

#include "base/error.h"

namespace hambrel {
namespace {

std::string utf8(unsigned code) {
  if (code < 0x800) return {static_cast<char>(0xC0 | code >> 6), static_cast<char>(0x80 | (code & 0x3F))};
  return {static_cast<char>(0xE0 | code >> 12), static_cast<char>(0x80 | (code >> 6 & 0x3F)),
          static_cast<char>(0x80 | (code & 0x3F))};
}

/// Of the sanitizers, the one for undefined behaviour saw the library go on where it said that it never does.
TEST(Toml, LettersOfAnyScriptAreNeitherWhiteSpaceNorPartsOfNames) {
  const std::set<unsigned> spaces{0xA0, 0x1680, 0x180E, 0x2028, 0x2029, 0x202F, 0x205F, 0x2060, 0x3000, 0xFEFF};
  for (unsigned code = 0xA0; code < 0xFFFE; ++code) {
    if (spaces.contains(code) || (code >= 0x2000 && code <= 0x200B) || (code >= 0xD800 && code < 0xE000)) continue;
    const std::string letter = utf8(code);
    // white space at the beginning of a line that goes on is left out
    const auto table = parse_toml("a = \"\"\"x\\\n" + letter + "y\"\"\"\n", "file");
    ASSERT_EQ(table["a"].value<std::string>(), "x" + letter + "y") << std::hex << code;
    if (code % 16 != 0) continue;  // an exception takes its time
    ASSERT_THROW(parse_toml("name" + letter + " = 1\n", "file"), Error) << std::hex << code;
    ASSERT_THROW(parse_toml("a = 1" + letter + "\n", "file"), Error) << std::hex << code;
  }
}

}  // namespace
}  // namespace hambrel
