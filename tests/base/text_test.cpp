#include "base/text.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "support/program.h"

namespace hambrel {

TEST(Text, PathGlobsStopAtSlashesUnlessTheyAreDoubled) {
  EXPECT_TRUE(path_glob_match("etc/lampdesk/*.toml", "etc/lampdesk/desk.toml"));
  EXPECT_FALSE(path_glob_match("etc/*.toml", "etc/lampdesk/desk.toml"));
  EXPECT_TRUE(path_glob_match("etc/**", "etc/lampdesk/desk.toml"));
  EXPECT_TRUE(path_glob_match("etc/**/desk.toml", "etc/desk.toml"));
  EXPECT_TRUE(path_glob_match("**/*.conf", "a/b/c.conf"));
  EXPECT_FALSE(path_glob_match("etc/?", "etc//"));
  EXPECT_TRUE(glob_match("lamp*-fog", "lampdesk-plugins-fog"));
  EXPECT_FALSE(glob_match("lamp*-fog", "lampdesk-plugins-fogs"));
}

TEST(Text, Base64ReturnsWhatWentInAndRefusesEverythingElse) {
  std::mt19937 random(7);
  for (int round = 0; round < 300; ++round) {
    std::string data(random() % 40, '\0');
    for (char& c : data) c = static_cast<char>(random());
    EXPECT_EQ(from_base64(to_base64(data)), data);
  }
  for (const char* bad : {"a", "ab=c", "====", "a===", "ab c", "abc=abcd"})
    EXPECT_EQ(from_base64(bad), std::nullopt) << bad;
}

TEST(Text, OddBytesAreFoundWhereverTheyStand) {
  for (std::size_t size = 0; size <= 40; ++size) {
    std::string text(size, ' ');
    for (std::size_t i = 0; i < size; ++i) text[i] = i % 2 == 0 ? ' ' : '~';
    EXPECT_TRUE(is_plain(text)) << size;
    for (std::size_t place = 0; place < size; ++place)
      for (int byte = 0; byte < 256; ++byte) {
        std::string changed = text;
        changed[place] = static_cast<char>(byte);
        ASSERT_EQ(is_plain(changed), byte >= 0x20 && byte <= 0x7E) << byte << " at " << place << " of " << size;
      }
  }
}

TEST(Text, NothingFromOutsideReachesATerminalAsControl) {
  EXPECT_EQ(printable("a\033[2Jb"), "a\\x1b[2Jb");
  EXPECT_EQ(printable("s\xC3\xBC\x64"), "s\xC3\xBC\x64");
  EXPECT_EQ(printable("\xC2\x9B"), "\\xc2\\x9b");
  EXPECT_EQ(printable("\xFF\xC0\x80"), "\\xff\\xc0\\x80");
}

TEST(Text, MisspellingsFindTheirWord) {
  EXPECT_EQ(edit_distance("lampdesk", "lamdpesk", 3), 1U);
  EXPECT_EQ(edit_distance("tide", "tidewatch", 2), 3U);
  EXPECT_EQ(did_you_mean("instal", {"install", "list", "undo"}), "did you mean install?");
  EXPECT_EQ(did_you_mean("xyzzy", {"install", "list"}), "");
}

TEST(Json, StrictAboutKeysNumbersAndDepth) {
  const auto problem = [](const std::string& text) {
    try {
      parse_json(text, "here");
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string();
  };
  EXPECT_EQ(problem(R"({"a":1,"b":{"a":2}})"), "");
  EXPECT_EQ(problem(R"({"a":1,"a":2})"), "here: the key \"a\" appears twice in one object");
  EXPECT_EQ(problem(R"({"a":)"), "here: not valid JSON at byte 6");
  EXPECT_EQ(problem(std::string(100, '[') + std::string(100, ']')), "here: JSON nested deeper than 64 levels");
  EXPECT_NE(problem("{\"a\":\"\xFF\"}"), "");
  const Json negative = Json::parse(R"({"n":-1})");
  EXPECT_THROW(JsonObject(negative, "x").number("n"), Error);
}

TEST(Json, NoInputCostsMoreThanItsSize) {
  std::string text = "{";
  for (int i = 80'000; i > 0; --i) text += fmt::format("\"key-{}\":0{}", i, i > 1 ? "," : "}");
  JsonReader reader;
  EXPECT_THROW(reader.parse(text, "here"), Error);  // and not after a minute
  EXPECT_THROW(parse_json(text, "here"), Error);
  EXPECT_THROW(parse_cbor(std::string(1'000'000, '\x81'), "here"), Error);
  EXPECT_EQ(parse_cbor("\xa1\x61\x61\x01", "here"), (Json{{"a", 1}}));
}

TEST(Text, WhatGoesToATerminalDrivesNothing) {
  EXPECT_EQ(terminal_text("a\nb\xc3\xa4 \x1b[1mc\x1b[0m", true, false), "a\nb\xc3\xa4 \x1b[1mc\x1b[0m");
  EXPECT_EQ(terminal_text("\x1b[1m\x1b]0;x\x07\x7f\xff\xc2\x9b", false, false),
            "\\x1b[1m\\x1b]0;x\\x07\\x7f\\xff\\xc2\\x9b");
  EXPECT_EQ(terminal_text("\x1b[2J", true, false), "\\x1b[2J") << "no style";
  EXPECT_EQ(Json::parse(terminal_text("{\"a\":\"\xc2\x9b\x7f\"}", false, true)), (Json{{"a", "\xc2\x9b\x7f"}}));
}

TEST(Text, AWordForAShellComesBackAsItWas) {
  for (const std::string word :
       {"lamp", "lamp>=2", "a b", "it's", "&& hambrel remove x", "", "$HOME", "/srv/caf\xc3\xa9"})
    EXPECT_EQ(test::run({"sh", "-c", "printf %s " + shell_quoted(word)}).out, word);
}

TEST(Text, UrlsAreShownWithoutWhoLogsIn) {
  EXPECT_EQ(shown_url("https://ada:s3@h/x?y"), "https://***@h/x?y");
  EXPECT_EQ(shown_url("install 'http://t@h' http://plain/a@b"), "install 'http://***@h' http://plain/a@b");
}

}  // namespace hambrel
