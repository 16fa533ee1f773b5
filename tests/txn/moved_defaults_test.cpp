#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <set>

#include "txn/configuration.h"

namespace hambrel::txn {

namespace {

using Pairs = std::set<std::pair<std::size_t, std::size_t>>;

/// As it is defined: round by round each one against each.
Pairs by_definition(const std::vector<ConfigDefault>& lost, const std::vector<ConfigDefault>& fresh) {
  using Fits = bool (*)(const ConfigDefault& a, const ConfigDefault& b);
  constexpr Fits kRounds[] = {
      [](const ConfigDefault& a, const ConfigDefault& b) { return a.digest == b.digest; },
      [](const ConfigDefault& a, const ConfigDefault& b) { return os::name_of(a.path) == os::name_of(b.path); },
      [](const ConfigDefault& a, const ConfigDefault& b) {
        return os::is_below(b.path, a.path) || os::is_below(a.path, b.path);
      }};
  Pairs pairs;
  const auto is_open = [&](std::size_t i, std::size_t k) {
    return std::none_of(pairs.begin(), pairs.end(), [&](const auto& one) { return one.first == i || one.second == k; });
  };
  for (const Fits fits : kRounds)
    for (std::size_t i = 0; i < lost.size(); ++i) {
      std::vector<std::size_t> of_i, of_k;
      for (std::size_t k = 0; k < fresh.size(); ++k)
        if (is_open(i, k) && fits(lost[i], fresh[k])) of_i.push_back(k);
      if (of_i.size() != 1) continue;
      for (std::size_t other = 0; other < lost.size(); ++other)
        if (is_open(other, of_i[0]) && fits(lost[other], fresh[of_i[0]])) of_k.push_back(other);
      if (of_k.size() == 1) pairs.emplace(i, of_i[0]);
    }
  return pairs;
}

}  // namespace

TEST(MovedDefaults, ArePairedRoundByRoundWhereNeitherFitsAnyOther) {
  const std::vector<std::string> names = {"etc/a",     "etc/b",   "etc/a/m", "etc/a/n",
                                          "etc/a/m/x", "etc/c/a", "etc/c",   "opt/b"};
  std::mt19937 chance(3);
  std::size_t found = 0;
  for (int round = 0; round < 5000; ++round) {
    const auto some = [&] {
      std::vector<std::string> chosen = names;
      std::shuffle(chosen.begin(), chosen.end(), chance);
      chosen.resize(chance() % 5);
      return chosen;
    };
    // no file of one version lies below another
    const auto as_files = [&](std::vector<std::string> paths) {
      std::vector<std::string> files;
      for (const std::string& one : paths)
        if (std::none_of(files.begin(), files.end(),
                         [&](const auto& other) { return os::is_below(one, other) || os::is_below(other, one); }))
          files.push_back(one);
      return files;
    };
    const std::vector<std::string> before = as_files(some());
    std::vector<std::string> after = as_files(some());
    std::erase_if(after, [&](const auto& one) { return std::count(before.begin(), before.end(), one) > 0; });
    const auto defaults = [&](const std::vector<std::string>& paths) {
      std::vector<ConfigDefault> result;
      for (const std::string& one : paths) result.push_back({one, sha256(std::to_string(chance() % 6))});
      return result;
    };
    const auto lost = defaults(before), fresh = defaults(after);
    const auto pairs = moved_defaults(lost, fresh);
    found += pairs.size();
    ASSERT_EQ(Pairs(pairs.begin(), pairs.end()), by_definition(lost, fresh)) << "round " << round;
  }
  EXPECT_GT(found, 2000U);
}

}  // namespace hambrel::txn
