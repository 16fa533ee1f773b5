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
  for (const std::int64_t id : {1, 2, 4, 5}) attics.push_back({{TxnId{id}, id * kDay, 100}, "", (6 - id) * kDay});
  return attics;
}

}  // namespace

TEST(Retention, TheOldestGoFirstByCountAgeAndSize) {
  const auto attics = four();
  EXPECT_THAT(over_limits({3, {}, {}}, attics, 0), ElementsAre(TxnId{1}));
  EXPECT_THAT(over_limits({3, {}, {}}, attics, 1), ElementsAre(TxnId{1}, TxnId{2}));
  EXPECT_THAT(over_limits({{}, 3, {}}, attics, 1), ElementsAre(TxnId{1}, TxnId{2}));
  EXPECT_THAT(over_limits({{}, {}, 250}, attics, 1), ElementsAre(TxnId{1}, TxnId{2}));
  EXPECT_THAT(over_limits({}, attics, 1), ElementsAre());
}

TEST(Retention, TheLastOneAndWhatIsNeededStay) {  // R1
  auto attics = four();
  attics[1].needed_by = "checkpoint calm";
  EXPECT_THAT(over_limits({0, 0, 0}, attics, 0), ElementsAre(TxnId{1}, TxnId{4}));
  EXPECT_THAT(over_limits({0, 0, 0}, attics, 1), ElementsAre(TxnId{1}, TxnId{4}, TxnId{5}));
}

TEST(Retention, AWrongClockAgesNothing) {
  const std::vector<std::pair<TxnId, std::int64_t>> sound{{TxnId{1}, 100 * kDay}, {TxnId{2}, 130 * kDay}};
  EXPECT_EQ(age_by_ledger(sound, TxnId{1}, 140 * kDay), 40 * kDay);
  EXPECT_EQ(age_by_ledger(sound, TxnId{2}, 140 * kDay), 10 * kDay);
  EXPECT_EQ(age_by_ledger(sound, TxnId{1}, 540 * kDay), 30 * kDay) << "a run 400 days ahead";
  EXPECT_EQ(age_by_ledger(sound, TxnId{1}, 50 * kDay), 30 * kDay) << "and one behind";
  const std::vector<std::pair<TxnId, std::int64_t>> odd{
      {TxnId{1}, 20'000 * kDay}, {TxnId{2}, 9'500 * kDay}, {TxnId{3}, 20'001 * kDay}, {TxnId{4}, 20'401 * kDay}};
  EXPECT_EQ(age_by_ledger(odd, TxnId{2}, 20'405 * kDay), 4 * kDay) << "1996, 2024, and 400 days ahead";
}

TEST(Retention, APlanNamesWhatIsGivenUp) {
  EXPECT_EQ(notice_of({TxnId{1}, TxnId{2}, TxnId{4}}).text(),
            "transactions 1 to 2, 4 will no longer be undoable; going back to before 4 will need the cache or a "
            "repository");
  EXPECT_EQ(notice_of({TxnId{7}}).text(),
            "transaction 7 will no longer be undoable; going back to before 7 will need the cache or a repository");
}

}  // namespace hambrel::txn
