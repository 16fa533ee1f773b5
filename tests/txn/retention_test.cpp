#include "txn/retention.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

namespace hambrel::txn {

using state::TxnId;
using testing::ElementsAre;

namespace {

constexpr std::int64_t kDay = 86400;

std::vector<StandingAttic> four() {
  std::vector<StandingAttic> attics;
  for (const std::int64_t id : {1, 2, 4, 5}) attics.push_back({{TxnId{id}, id * kDay, 100}, ""});
  return attics;
}

}  // namespace

TEST(Retention, TheOldestGoFirstByCountAgeAndSize) {
  const auto attics = four();
  EXPECT_THAT(beyond({3, {}, {}}, attics, 0, 0), ElementsAre(TxnId{1}));
  EXPECT_THAT(beyond({3, {}, {}}, attics, 1, 0), ElementsAre(TxnId{1}, TxnId{2}));
  EXPECT_THAT(beyond({{}, 3, {}}, attics, 1, 6 * kDay), ElementsAre(TxnId{1}, TxnId{2}));
  EXPECT_THAT(beyond({{}, {}, 250}, attics, 1, 0), ElementsAre(TxnId{1}, TxnId{2}));
  EXPECT_THAT(beyond({}, attics, 1, 99 * kDay), ElementsAre());
}

TEST(Retention, TheLastOneAndWhatIsNeededStay) {  // R1
  auto attics = four();
  attics[1].needed_by = "checkpoint calm";
  EXPECT_THAT(beyond({0, 0, 0}, attics, 0, 99 * kDay), ElementsAre(TxnId{1}, TxnId{4}));
  EXPECT_THAT(beyond({0, 0, 0}, attics, 1, 99 * kDay), ElementsAre(TxnId{1}, TxnId{4}, TxnId{5}));
}

TEST(Retention, APlanNamesWhatIsGivenUp) {
  EXPECT_EQ(notice_of({TxnId{1}, TxnId{2}, TxnId{4}}).text(),
            "the attic gives up the files of transactions 1 to 2, 4: no undo of them any more, and going back to what"
            " was before 4 needs the cache or a repository");
  EXPECT_EQ(notice_of({TxnId{7}}).text(),
            "the attic gives up the files of transaction 7: no undo of it any more, and going back to what was before 7"
            " needs the cache or a repository");
}

}  // namespace hambrel::txn
