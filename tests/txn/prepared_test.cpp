// A prepared transaction is read back from the state, where somebody may have altered it.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/json.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::goods;
using test::Workshop;

namespace {

/// Calls `each` with the document, altered in one place: left out, or another value in its stead.
void for_each_alteration(const Json& whole, const std::function<void(const Json&, const std::string&)>& each) {
  const Json instead[] = {Json(),   Json(""), Json("../x"),  Json("a\nb"),
                          Json(-1), Json(77), Json::array(), Json::object()};
  const Json flat = whole.flatten();
  for (const auto& [pointer, value] : flat.items()) {
    for (Json::json_pointer at(pointer); !at.empty(); at.pop_back()) {
      Json altered = whole;
      if (altered.at(at.parent_pointer()).is_object()) {
        altered.at(at.parent_pointer()).erase(at.back());
        each(altered, at.to_string() + " left out");
      }
      for (const Json& other : instead) {
        altered = whole;
        altered[at] = other;
        each(altered, at.to_string() + " is " + other.dump());
      }
    }
  }
}

}  // namespace

TEST(Prepared, WhatWasAlteredIsRefusedOrDoesNoHarmToTheProgram) {
  Workshop shop;
  const auto old = goods("lib", "1", {{"usr/lib/l", "one"}, {"usr/share/l/gone", "g"}});
  const auto next = goods("lib", "2", {{"usr/lib/l", "two"}, {"usr/share/m/new", "n"}});
  shop.change(*shop.fs, {&old});
  shop.prepares = true;
  shop.change(*shop.fs, {&next}, {"lib"});
  Json whole = parse_cbor(shop.state->prepared_value(shop.state->prepared()->id), "prepared");
  Transaction acting;
  acting.journal.directory = "var/lib/hambrel/stage/2";
  const state::Generated made{"lib", "cache", true, {}};
  acting.generated = {{"var/cache/l", std::nullopt, made}};
  acting.answers = {{"lib", "colour", "blue"}};
  acting.picks = {{"usr/bin/editor", "usr/bin/a", "usr/bin/b"}};
  acting.follows = {{"lib", "", "testing"}};
  acting.lines = {{"etc/passwd", state::LineChange::What::Add, "lib:x:120:120:::", ""}};
  acting.runs = {{"lib", "cache", "trigger", 3, "", "made"}};
  const Json of_programs = parse_cbor(encode(acting), "prepared");
  for (const char* const part : {"generated", "answers", "picks", "follows", "lines", "runs"})
    whole[part] = of_programs[part];
  int cases = 0, refused = 0;
  for_each_alteration(whole, [&](const Json& altered, const std::string& what) {
    SCOPED_TRACE(what);
    std::string bytes;
    Json::to_cbor(altered, bytes);
    ++cases;
    try {
      const Transaction read = decode(bytes, *shop.state);
      for (const state::PackageChange& one : read.changes) {
        EXPECT_TRUE(one.before || one.after);
        EXPECT_EQ(one.before.has_value(), one.before_row.has_value());
        EXPECT_TRUE(one.after || !one.after_row);
      }
      for (const state::Move& one : read.journal.moves) {
        EXPECT_NO_THROW(os::require_clean(fmt::format("{}/{}", one.path, one.home)));
        EXPECT_LE(static_cast<int>(one.kind), static_cast<int>(state::MoveKind::Attributes));
      }
      EXPECT_FALSE(read.journal.directory.empty());
      for (const state::GeneratedChange& one : read.generated) EXPECT_EQ(path_problem(one.path), "");
      for (const state::Answer& one : read.answers) EXPECT_FALSE(one.package.empty() || one.key.empty());
      for (const state::PickChange& one : read.picks) EXPECT_EQ(path_problem(one.path), "");
      for (const state::FollowChange& one : read.follows) EXPECT_NE(one.name, "");
      for (const state::LineChange& one : read.lines) {
        EXPECT_EQ(path_problem(one.path), "");
        EXPECT_TRUE(!one.line.empty() && one.line.find('\n') == std::string::npos);
      }
    } catch (const Error& problem) {
      ++refused;
      EXPECT_NE(problem.code(), ErrorCode::Internal) << problem.what();
    }
  });
  EXPECT_GT(refused, cases / 3);
  std::printf("%d alterations, %d of them refused\n", cases, refused);
  EXPECT_GT(number(shop.activate(*shop.fs)), 1);
  EXPECT_EQ(shop.installed(), "lib 2 ");
}

}  // namespace hambrel::txn
