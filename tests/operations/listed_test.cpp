#include "operations/listed.h"

#include <gtest/gtest.h>

#include <random>

namespace hambrel::operations {

TEST(Listed, OfManyNamesWhatIsInstalledAndTheNewestOnOffer) {
  std::mt19937 random(11);
  std::vector<Candidate> candidates;
  std::map<std::string, std::map<int, const char*, std::greater<>>> expected;  // by name and version: its kind
  constexpr int kNames = 4000;
  for (int i = 0; i < kNames; ++i) {
    const std::string name = (i % 3 == 0 ? "lib" : "app") + std::to_string(i);
    const int installed = static_cast<int>(random() % 4);  // 0: none
    bool any = false;
    for (int version = 3; version > 0; --version) {
      const bool here = version == installed, offered = random() % 2 == 0;
      if (!here && !offered) continue;
      Candidate& one = candidates.emplace_back();
      one.package.name = name;
      one.package.version = Version::parse(std::to_string(version)).value();
      one.package.arch = "independent";
      if (here) one.installed = Installed{};
      if (offered) {
        Offer& offer = one.offers.emplace_back();
        offer.repository = "harbour";
        offer.channel = "stable";
      }
      if (here || !any) expected[name][version] = here ? "installed" : "newest";
      any = any || offered;
    }
  }
  const Universe universe(candidates);
  const auto titles = [&](const std::vector<std::string>& words) {
    std::vector<std::string> told;
    for (const PackageId id : Conditions(universe, words).listed()) told.push_back(universe.package(id).title());
    return told;
  };
  const auto expected_where = [&](const auto& holds) {
    std::vector<std::string> told;
    for (const auto& [name, versions] : expected)
      for (const auto& [version, kind] : versions)
        if (holds(name, std::string_view(kind))) told.push_back(name + " " + std::to_string(version));
    return told;
  };
  const auto starts_with_lib = [](const std::string& name) { return name.starts_with("lib"); };
  EXPECT_EQ(titles({"name:lib*"}), expected_where([&](const auto& name, auto) { return starts_with_lib(name); }));
  EXPECT_EQ(titles({"name:*"}), expected_where([](const auto&, auto) { return true; }));
  EXPECT_EQ(titles({}), expected_where([](const auto&, auto kind) { return kind == "installed"; }));
  EXPECT_EQ(titles({"installed", "not:name:lib*"}),
            expected_where([&](const auto& name, auto kind) { return kind == "installed" && !starts_with_lib(name); }));
}

}  // namespace hambrel::operations
