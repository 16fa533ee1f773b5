#include "model/spec.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "model/universe.h"
#include "solve/universe_text.h"

namespace hambrel {

TEST(Spec, EachFormIsKnown) {
  const auto kind = [](const char* text) { return parse_spec(text).kind; };
  EXPECT_EQ(kind("lampdesk"), Spec::Kind::Name);
  EXPECT_EQ(parse_spec("lampdesk>=6").constraint.text(), "lampdesk >= 6");
  EXPECT_EQ(parse_spec("lampdesk=6.1").constraint.text(), "lampdesk = 6.1");
  EXPECT_EQ(parse_spec("lampdesk@beta").channel, "beta");
  EXPECT_EQ(parse_spec("group:signal-room").group, "signal-room");
  EXPECT_EQ(kind("/usr/bin/lampctl"), Spec::Kind::Path);
  EXPECT_EQ(kind("./lampdesk.hambrel"), Spec::Kind::File);
  EXPECT_EQ(kind("http://h/lampdesk.hambrel"), Spec::Kind::File);
  EXPECT_EQ(kind("lamp*"), Spec::Kind::Glob);
  for (const char* bad : {"", "Lamp", "lamp@", "@beta", "lamp>=", "lamp==1", "group:", "./x", "http://h/x", "lamp desk",
                          "-x", "lamp>=1 | x"})
    EXPECT_THROW(parse_spec(bad), Error) << bad;
}

TEST(Universe, MergesWhatIsInstalledWithWhatIsOffered) {
  const Universe u = test::universe("lib 1\nlib 2\n*lib 1\nother 1\n    provides lib = 3\n");
  EXPECT_EQ(u.size(), 3U);
  EXPECT_EQ(u.package(u.versions_of("lib").front()).title(), "lib 2");
  EXPECT_EQ(u.package(*u.installed_of("lib")).title(), "lib 1");
  EXPECT_EQ(u.package(u.newer_offer(*u.installed_of("lib")).value()).title(), "lib 2");
  EXPECT_EQ(u.matching(parse_constraint("lib >= 3", "")).size(), 1U);
  EXPECT_EQ(u.matching(parse_constraint("lib", "")).size(), 3U);
  EXPECT_TRUE(u.versions_of("nothing").empty());
}

TEST(Universe, AProvidedNameWithoutAVersionMeetsOnlyPlainConstraints) {
  const Universe u = test::universe("a 1\n    provides v\nb 1\n    provides v = 2\n");
  EXPECT_EQ(u.matching(parse_constraint("v", "")).size(), 2U);
  EXPECT_EQ(u.matching(parse_constraint("v >= 1", "")).size(), 1U);
}

}  // namespace hambrel
