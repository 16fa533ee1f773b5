// Records of the OSV schema: which versions they affect.
#include "model/advisory.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/error.h"

namespace hambrel::test {

namespace {

Advisory record(const std::string& affected) {
  return parse_advisories(R"([{"id": "SKERRY-1", "modified": "2026-11-01T00:00:00Z", "summary": "s", "affected": [)" +
                              affected + "]}]",
                          "here")
      .front();
}

std::string range(const std::string& events) {
  return R"({"package": {"ecosystem": "Hambrel:skerry", "name": "saltdb"}, "ranges": [{"type": "ECOSYSTEM", "events": [)" +
         events + "]}]}";
}

std::string affected_of(const Advisory& advisory, const char* name = "saltdb") {
  std::string text;
  for (const char* version : {"0.9-1", "1.0~rc1-1", "1.0-1", "1.8-1", "1.9-1", "1.9-2", "2.0-1", "1:0.1-1"})
    if (advisory.affects(name, *Version::parse(version))) text += std::string(text.empty() ? "" : " ") + version;
  return text;
}

}  // namespace

TEST(Advisory, EventsCountInTheOrderOfVersionsWhateverTheirOrder) {
  EXPECT_EQ(affected_of(record(range(R"({"introduced": "0"}, {"fixed": "1.9-2"})"))),
            "0.9-1 1.0~rc1-1 1.0-1 1.8-1 1.9-1");
  EXPECT_EQ(affected_of(record(range(R"({"fixed": "1.9-2"}, {"introduced": "1.0-1"})"))), "1.0-1 1.8-1 1.9-1");
  EXPECT_EQ(affected_of(record(range(R"({"introduced": "1.0-1"}, {"last_affected": "1.9-1"})"))), "1.0-1 1.8-1 1.9-1");
  EXPECT_EQ(affected_of(record(range(R"({"introduced": "0"}, {"fixed": "1.0"}, {"introduced": "2.0"})"))),
            "0.9-1 1.0~rc1-1 2.0-1 1:0.1-1");
}

TEST(Advisory, VersionsThatAreNamedCountByThemselvesAndOtherPackagesDoNot) {
  const Advisory one = record(
      R"({"package": {"ecosystem": "Hambrel", "name": "saltdb"}, "versions": ["1.8-1", "2.0-1"]},
         {"package": {"ecosystem": "Elsewhere", "name": "saltdb"}, "versions": ["1.0-1"]})");
  EXPECT_EQ(affected_of(one), "1.8-1 2.0-1");
  EXPECT_EQ(affected_of(one, "lampdesk"), "");
  Advisory withdrawn = one;
  withdrawn.withdrawn = true;
  EXPECT_EQ(affected_of(withdrawn), "");
}

TEST(Advisory, WhatIsNoRecordIsRefusedWithItsPlace) {
  for (const char* text :
       {"{}", R"([{"id": "X"}])", R"([{"id": 7, "modified": "x"}])",
        R"([{"id": "X", "modified": "x", "affected": [{"package": {"ecosystem": "Hambrel", "name": "a"}}]}])",
        R"([{"id": "X", "modified": "x", "affected": [{"package": {"ecosystem": "Hambrel", "name": "a"},
                               "ranges": [{"type": "ECOSYSTEM", "events": [{"fixed": "not a version"}]}]}]}])"})
    EXPECT_THROW(parse_advisories(text, "here"), Error) << text;
}

}  // namespace hambrel::test
