#include "model/universe.h"

#include <gtest/gtest.h>

#include <array>
#include <cstring>
#include <future>
#include <random>
#include <set>

#include "model/layer_sections.h"
#include "model/search.h"
#include "solve/solver.h"
#include "solve/universe_text.h"
#include "support/program.h"

namespace hambrel {

namespace {

/// A world in which base and overlay share names, provide each other's, and disagree about the same version.
std::vector<Candidate> mixed_world(std::mt19937& random) {
  std::string text;
  const auto constraint = [&] {
    std::string c(1, "abcdev"[random() % 6]);
    static const char* const ops[] = {"", " = ", " < ", " >= ", " != "};
    const std::string op = ops[random() % 5];
    return op.empty() ? c : c + op + std::to_string(1 + random() % 3);
  };
  for (const char name : std::string("abcde"))
    for (int v = 1; v <= 3; ++v) {
      const auto roll = random() % 4;
      if (roll == 0) continue;
      text += std::string(roll == 1 ? "*" : "") + name + " " + std::to_string(v) + "\n";
      if (roll == 1 && random() % 2 == 0) text += "    from repo/stable\n";
      text += "    requires " + constraint() + (random() % 2 == 0 ? " | " + constraint() : "") + "\n";
      if (random() % 3 == 0) text += "    provides v = " + std::to_string(1 + random() % 3) + "\n";
      if (random() % 4 == 0) text += "    replaces " + constraint() + "\n";
      if (roll == 1 && random() % 3 == 0)
        text += std::string(1, name) + " " + std::to_string(v) + "\n    conflicts a\n";
    }
  return test::candidates(text);
}

}  // namespace

TEST(UniverseTest, CompiledRelationsMatchWhatTheManifestsSay) {
  std::mt19937 random(3);
  for (int round = 0; round < 300; ++round) {
    const Universe u(mixed_world(random));
    const auto all = u.all();
    for (const PackageId id : all) {
      const auto compiled = u.relations(id, RelationList::Requires);
      const Package& package = u.package(id);
      ASSERT_EQ(compiled.size(), package.requires_.size());
      for (std::size_t i = 0; i < compiled.size(); ++i) {
        std::vector<PackageId> expected;
        for (const PackageId other : all)
          if (satisfies(u.package(other), package.requires_[i])) expected.push_back(other);
        ASSERT_EQ(std::vector(u.matching(compiled[i]).begin(), u.matching(compiled[i]).end()), expected)
            << package.title() << " requires " << u.text(compiled[i]) << "\n"
            << test::text_of(u);
        ASSERT_EQ(u.text(compiled[i]), package.requires_[i].text());
      }
      for (const PackageId other : u.replacers_of(id)) {
        const auto& replaces = u.package(other).replaces;
        ASSERT_TRUE(std::any_of(replaces.begin(), replaces.end(), [&](const Constraint& c) {
          return c.name == package.name && c.allows(package.version);
        }));
      }
    }
  }
}

TEST(UniverseTest, SeveralThreadsAreToldTheSameAsOne) {
  // all that is worked out when it is first asked for, from a place of its own on
  const auto told = [](const Universe& u, std::size_t from) {
    const std::size_t count = u.size();
    std::vector<std::string> each(count);
    for (std::size_t i = 0; i < count; ++i) {
      const auto id = static_cast<PackageId>((from + i) % count);
      std::string& text = each[index_of(id)];
      if (!u.visible(id)) continue;
      text = u.package(id).title() + (u.has_several_files(u.name_id(id)) ? " several" : "");
      for (const PackageId other : u.slot(id)) text += " " + std::to_string(index_of(other));
      for (const PackageId other : u.replacers_of(id)) text += " <" + std::to_string(index_of(other));
      for (const RelationId relation : u.relations(id, RelationList::Requires))
        for (const PackageId other : u.matching(relation)) text += " >" + std::to_string(index_of(other));
    }
    return each;
  };
  std::mt19937 random(5);
  for (int round = 0; round < 200; ++round) {
    const std::vector<Candidate> world = mixed_world(random);
    const std::vector<std::string> architectures =
        round % 2 == 0 ? std::vector<std::string>() : std::vector<std::string>{"x86_64", "arm64"};
    const auto expected = told(Universe(world, architectures), 0);
    const Universe u(world, architectures);
    std::vector<std::future<std::vector<std::string>>> others;
    for (std::size_t thread = 0; thread < 3; ++thread)
      others.push_back(std::async(std::launch::async, [&, thread] { return told(u, thread * u.size() / 3); }));
    for (auto& one : others) ASSERT_EQ(one.get(), expected);
  }
}

TEST(UniverseTest, EachVersionStandsOnceInTheOrderOfListsHoweverItWasFound) {
  const Universe u = test::universe(
      "b 1\na 2\n*a 10\n+c 1\nc 1\n    from far/stable\nc 1\n    from near/stable 10\n*b 1\na 1\n    from "
      "!!cove/stable\n");
  std::string text;
  for (const PackageId id : u.all()) text += u.package(id).title() + (u.is_installed(id) ? "*" : "") + " ";
  EXPECT_EQ(text, "a 10* a 2 b 1* c 1* ");
  EXPECT_EQ(u[u.versions_of("c")[0]].offers.size(), 2U);
  EXPECT_EQ(u[u.versions_of("c")[0]].offers[0].repository, "near");
  EXPECT_EQ(u[u.versions_of("b")[0]].offers.size(), 1U) << "what is installed keeps what is on offer of it";
  ASSERT_EQ(u.unseen_versions_of("a").size(), 1U);
  EXPECT_EQ(u[u.unseen_versions_of("a")[0]].elsewhere[0].repository, "cove");
}

TEST(UniverseTest, TheSameVersionOfTwoRepositoriesIsTwoPackagesWhereTheirFilesDiffer) {
  std::vector<Candidate> all = test::candidates(R"(
lamp 2
    from far/stable 70
    requires oil
lamp 2
    from near/stable 10
    requires gas
*lamp 1
*mast 1
    requires oil
mast 1
    from far/stable 70
    requires gas
oil 1
gas 1
)");
  for (std::size_t i = 0; i < all.size(); ++i)
    if (!all[i].offers.empty()) all[i].offers[0].digest.bytes[0] = static_cast<std::uint8_t>(i + 1);
  const Universe u(all);
  const Ids lamps = u.versions_of("lamp");
  ASSERT_EQ(lamps.size(), 3U);
  EXPECT_EQ(u.newest_offers(*u.installed_of("lamp")).size(), 2U);
  const PackageId best = *u.newer_offer(*u.installed_of("lamp"));
  EXPECT_EQ(u[best].offers[0].repository, "near") << "rank decides";
  EXPECT_EQ(u.package(best).requires_[0].text(), "gas") << "with its own relations";
  solve::Request request;
  request.upgrade_all = true;
  const auto answer = solve::solve(u, request);
  std::string text;
  for (const PackageId id : std::get<solve::Selection>(answer).chosen)
    text += u.package(id).title() + (u.package(id).requires_.empty() ? "" : u.package(id).requires_[0].text()) + " ";
  EXPECT_EQ(text, "gas 1 lamp 2gas mast 1oil oil 1 ") << "the installed mast is not exchanged for the other file of it";
}

namespace {

std::string catalogue_of(const std::vector<Candidate>& world) {
  LayerBuilder builder;
  for (const Candidate& one : world)
    for (const Offer& offer : one.offers) builder.add_offer(builder.add(one.package), offer);
  return builder.finish("key").joined();
}

/// The image with a number of one of its lists changed, or several, and sums that are right.
std::string with_other_numbers(const std::string& bytes, std::mt19937& random) {
  const Image image = *Image::open(std::make_shared<OwnedBytes>(bytes));
  constexpr auto kLast = static_cast<std::uint32_t>(Section::ProviderStarts);
  std::uint32_t changed = 0;
  do changed = 1 + static_cast<std::uint32_t>(random() % kLast);
  while (image.place(changed).second < sizeof changed);
  ImageWriter writer;
  for (std::uint32_t section = 1; section <= kLast; ++section) {
    const auto [start, size] = image.place(section);
    std::vector<std::byte> data(image.at(start, size), image.at(start, size) + size);
    for (std::size_t times = section == changed ? 1 + random() % 4 : 0; times > 0; --times) {
      const std::size_t at = random() % (size / sizeof changed) * sizeof changed;
      const auto few = static_cast<std::uint32_t>(random() % 40);
      const std::uint32_t number =
          std::array{few, UINT32_MAX - few, few << 16U, few << 8U, 1U << few % 32}[random() % 5];
      std::memcpy(data.data() + at, &number, sizeof number);
    }
    writer.add(section, std::move(data));
  }
  return writer.finish("key").joined();
}

/// Asks a universe for all that it knows of each package; what it gives out is a place in lists of that many.
void ask_for_everything(const Universe& u) {
  const auto is_known = [&](PackageId id) { ASSERT_LT(index_of(id), u.size()); };
  const auto is_name = [&](NameId name) { ASSERT_LT(static_cast<std::size_t>(name), u.name_count()); };
  for (std::size_t i = 0; i < u.installed().size(); ++i) {
    is_known(u.installed()[i]);
    is_name(u.installed_name(i));
  }
  for (std::size_t i = 0; i < u.name_count(); ++i) {
    for (const PackageId id : u.versions_of(static_cast<NameId>(i))) is_known(id);
    u.each_against(static_cast<NameId>(i), [&](PackageId id, RelationId relation, bool) {
      is_known(id);
      ASSERT_LT(static_cast<std::size_t>(relation), u.relation_count());
    });
  }
  for (const PackageId id : u.all()) {
    is_name(u.name_id(id));
    for (const PackageId other : u.replacers_of(id)) is_known(other);
    for (const NameId name : u.answers_to(id)) is_name(name);
    for (std::size_t list = 0; list < kRelationLists; ++list)
      for (const RelationId relation : u.relations(id, static_cast<RelationList>(list))) {
        ASSERT_LT(static_cast<std::size_t>(relation), u.relation_count());
        for (const PackageId other : u.matching(relation)) is_known(other);
        for (std::size_t k = 0; k < u.constraint_count(relation); ++k) is_name(u.constraint(relation, k).name);
      }
  }
  for (const PackageId id : u.all()) {
    EXPECT_EQ(u[id].installed.has_value() || !u.is_installed(id), true);
    EXPECT_EQ(u[id].offers.empty() && !u.is_installed(id), false);
    for (const Relation& one : u.package(id).requires_) EXPECT_FALSE(one.alternatives.empty());
  }
}

}  // namespace

TEST(UniverseTest, NumbersThatSomebodyMadeUpLeadNowhereOutsideOfIt) {
  std::mt19937 random(29);
  int refused = 0, read = 0;
  for (int round = 0; round < 6000; ++round) {
    const std::vector<Candidate> world = mixed_world(random);
    const auto layer = [](std::string bytes) {
      return std::make_shared<const Layer>(*Image::open(std::make_shared<OwnedBytes>(std::move(bytes))));
    };
    std::string image = catalogue_of(world);
    const bool of_base = random() % 2 == 0, above = random() % 2 == 0;
    try {
      auto base = layer(of_base && above ? with_other_numbers(image, random) : image);
      std::string installed = compile_overlay(*base, world, "key");
      if (of_base && !above) base = layer(with_other_numbers(image, random));
      if (!of_base) installed = with_other_numbers(installed, random);
      const Universe u(base, layer(std::move(installed)), {{{"repo", true, 50, {"stable"}}}, {}, {}});
      ask_for_everything(u);
      if (HasFatalFailure()) FAIL() << "round " << round;
      search(u, {"b"}, false);
      solve::Request request;
      request.upgrade_all = true;
      request.budget = 100000;
      solve::solve(u, request);
      ++read;
    } catch (const DamagedImage&) {
      ++refused;
    }
  }
  EXPECT_GT(refused, 1000);
  EXPECT_GT(read, 1000);
}

TEST(UniverseTest, LongTextsComeBackWhereverTheirPiecesOfMemoryEnd) {
  std::mt19937 random(8);
  std::vector<Candidate> world = test::candidates("a 1\n");
  const Candidate one = world[0];
  world.clear();
  for (int i = 0; i < 60; ++i) {
    world.push_back(one);
    Package& package = world.back().package;
    package.name = "p" + std::to_string(i);
    package.summary.assign(random() % 100'000, static_cast<char>('a' + i % 26));
    package.description.assign(random() % (i % 10 == 0 ? 3'000'000 : 300'000), static_cast<char>('A' + i % 26));
  }
  auto image = Image::open(std::make_shared<OwnedBytes>(catalogue_of(world)));
  ASSERT_TRUE(image);
  const Layer layer(std::move(*image));
  for (const Candidate& expected : world) {
    const auto& record = layer.packages[layer.name_starts[layer.find_name(expected.package.name).value()]];
    EXPECT_TRUE(layer.text(record.summary) == expected.package.summary) << expected.package.name;
    EXPECT_TRUE(layer.text(layer.details[record.details].description) == expected.package.description);
  }
}

TEST(UniverseTest, ADamagedImageIsNeverReadAsIfItWereWhole) {
  LayerBuilder builder;
  for (const Candidate& one : test::candidates("a 1\n    requires b >= 2\nb 2\n    provides v = 1\nb 1\n"))
    builder.add_offer(builder.add(one.package), one.offers[0]);
  const std::string image = builder.finish("key").joined();
  const auto read = [](std::string bytes) -> std::string {
    try {
      auto opened = Image::open(std::make_shared<OwnedBytes>(std::move(bytes)));
      if (!opened) return "refused";
      const auto base = std::make_shared<Layer>(std::move(*opened));
      const auto overlay =
          std::make_shared<Layer>(Image::open(std::make_shared<OwnedBytes>(compile_overlay(*base, {}, ""))).value());
      const Universe u(base, overlay, {{{"repo", true, 50, {"stable"}}}, {}, {}});
      std::string text;
      for (const PackageId id : u.all())
        text += test::text_of(u) + u[id].offers[0].title() + u[id].offers[0].digest.hex();
      for (const SearchHit& hit : search(u, {"b"}, false)) text += u.package(hit.id).title();
      return text;
    } catch (const DamagedImage&) {
      return "refused";
    }
  };
  const std::string whole = read(image);
  EXPECT_NE(whole.find("requires b >= 2"), std::string::npos);
  int refused = 0;
  for (std::size_t i = 0; i < image.size(); ++i) {
    std::string damaged = image;
    damaged[i] = static_cast<char>(damaged[i] ^ 0x41);
    const std::string now = read(damaged);
    ASSERT_TRUE(now == "refused" || now == whole) << "byte " << i;
    refused += now == "refused" ? 1 : 0;
    if (i % 97 == 0) {
      ASSERT_EQ(read(image.substr(0, i)), "refused") << "cut off at " << i;
    }
  }
  EXPECT_GT(refused, static_cast<int>(image.size() / 2));
}

TEST(Search, FindsWordsGlobsAndExpressionsAndSaysWhere) {
  auto all = test::candidates("tide 1\ntidewatch 2\n*tidewatch 1\nlibtide 1\nchart 1\n    provides tide-maps\nfog 1\n");
  all[4].package.summary = "Charts of the coast";
  all[5].package.description = "Sounds when the TIDE turns";
  const Universe u(all);
  const auto found = [&](const std::vector<std::string>& words, bool regex = false) {
    std::string text;
    for (const SearchHit& hit : search(u, words, regex))
      text += u.package(hit.id).title() + ":" + std::to_string(static_cast<int>(hit.found)) + " ";
    return text;
  };
  EXPECT_EQ(found({"Tide"}), "tide 1:0 tidewatch 1:1 libtide 1:2 chart 1:4 fog 1:5 ");
  EXPECT_EQ(found({"tide", "coast"}), "chart 1:4 ");
  EXPECT_EQ(found({"*tide"}), "libtide 1:0 tide 1:0 ");
  EXPECT_EQ(found({"^(lib|chart)"}, true), "chart 1:2 libtide 1:2 ");
  EXPECT_EQ(found({"nowhere"}), "");
  EXPECT_THROW(search(u, {"("}, true), Error);
}

TEST(Search, TheIndexOfWordsFindsWhatReadingAllTextsWouldFind) {
  std::mt19937 chance(7);
  const auto text = [&](std::size_t most) {
    static const std::vector<std::string> pieces{"a", "B", "ab", "x9",  "\xc3\xa4", "-",
                                                 ".", " ", "/",  "c++", "\n",       "bA"};
    std::string made;
    for (std::size_t i = chance() % (most + 1); i > 0; --i) made += pieces[chance() % pieces.size()];
    return made;
  };
  for (int round = 0; round < 200; ++round) {
    auto all = test::candidates("ab 1\nab-x9 1\nab-x9 2\nba9 1\n    provides ab.a = 1\nc 1\n*c 2\n");
    for (Candidate& one : all) {
      one.package.summary = text(4);
      one.package.description = text(9);
    }
    const Universe u(all);
    const std::string word = text(3);
    if (word.empty()) continue;
    std::set<std::string> expected, found;
    for (const Candidate& one : all) {
      const auto has = [&](const std::string& part) { return lower(part).find(lower(word)) != std::string::npos; };
      if (has(one.package.name) || has(one.package.summary) || has(one.package.description) ||
          std::any_of(one.package.provides.begin(), one.package.provides.end(),
                      [&](const Constraint& provided) { return has(provided.name); }))
        expected.insert(one.package.name);
    }
    for (const SearchHit& hit : search(u, {word}, false)) found.insert(std::string(u.name(hit.id)));
    EXPECT_EQ(found, expected) << "\"" << word << "\"";
  }
}

}  // namespace hambrel
