#include "universe.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace hambrel::bench {

namespace {

/// splitmix64 (Steele, Lea & Flood 2014): the same numbers everywhere, which std's distributions do not promise.
class Random {
 public:
  explicit Random(std::uint64_t seed) : state_(seed) {}
  std::uint64_t next() {
    std::uint64_t z = (state_ += 0x9e3779b97f4a7c15U);
    z = (z ^ (z >> 30U)) * 0xbf58476d1ce4e5b9U;
    z = (z ^ (z >> 27U)) * 0x94d049bb133111ebU;
    return z ^ (z >> 31U);
  }
  std::size_t below(std::size_t n) { return static_cast<std::size_t>(next() % n); }
  bool chance(unsigned percent) { return next() % 100 < percent; }
  double unit() { return static_cast<double>(next() >> 11U) * 0x1.0p-53; }

 private:
  std::uint64_t state_;
};

constexpr const char* kWords[] = {"tide",   "buoy",    "lamp",   "chart", "salt",   "fog",  "keel", "moor",  "gull",
                                  "signal", "harbour", "anchor", "brine", "cable",  "deck", "ebb",  "flag",  "gauge",
                                  "hull",   "inlet",   "jetty",  "knot",  "ladder", "mast", "net",  "oar",   "pilot",
                                  "quay",   "rope",    "sail",   "tow",   "vane",   "wave", "yard", "sound", "shoal"};
constexpr std::size_t kWordCount = sizeof kWords / sizeof kWords[0];

constexpr std::size_t kCollections = 20;

enum class Kind { Plain, Library, Family, Provider };

/// One name in both releases.
struct Member {
  std::string name;
  Kind kind = Kind::Plain;
  std::string old_version, new_version;
  unsigned old_interface = 0, new_interface = 0;  // of a library
  std::size_t family = 0;                         // its head, for a Family
  std::size_t service = 0;                        // which virtual name a Provider provides
  bool excludes = false;                          // and whether it excludes the other providers
  bool in_old = true, in_new = true;
  std::string new_name;        // what it is called in the new release, if it was renamed
  bool takes_over = false;     // and it says that it replaces the old name, or is only against it,
  bool is_against = false;     // or (neither) both may stand side by side
  std::string replaces;        // a name that it took over from
  std::size_t breaks = kNone;  // whose old versions the new one is against
  bool lags = false;           // of a Family: its repository still has the old version
  static constexpr std::size_t kNone = SIZE_MAX;
  std::vector<std::size_t> requires_, recommends;
  std::vector<std::size_t> services;  // virtual names that it requires
  unsigned exact = 0;
};

class Maker {
 public:
  explicit Maker(const Shape& shape)
      : random_(shape.seed),
        words_(shape.description_words),
        names_(std::max<std::size_t>(shape.packages * 9 / 10, 40)) {}

  World run() {
    for (std::size_t i = 0; i < names_; ++i) make_member(i);
    move_users_of_changed_libraries();
    World world;
    for (std::size_t i = 0; i < names_; ++i) {
      const Member& one = members_[i];
      if (one.in_old) world.old.push_back(package(i, false));
      if (one.in_new) add_offers(world, i);
    }
    for (std::size_t i = 1; i <= kCollections; ++i) add_collection(world, i);
    return world;
  }

 private:
  std::string word() { return kWords[random_.below(kWordCount)]; }

  /// Something like a word, out of some ten thousand.
  std::string prose() {
    static constexpr const char* kParts[] = {"ba",  "del", "fin", "gor", "hul", "jas", "kem", "lor", "mi",  "nar", "op",
                                             "pre", "qua", "rin", "sto", "tu",  "ver", "wil", "yon", "zet", "an"};
    std::string text;
    for (std::size_t k = 0; k < 2 + random_.below(2); ++k)
      text += kParts[random_.below(sizeof kParts / sizeof kParts[0])];
    return text;
  }

  void make_member(std::size_t i) {
    Member one;
    const unsigned roll = static_cast<unsigned>(random_.below(100));
    if (i > 0 && members_[i - 1].kind == Kind::Family && random_.chance(80)) {
      one.kind = Kind::Family;
      one.family = members_[i - 1].family;
    } else if (roll < 3) {
      one.kind = Kind::Family;
      one.family = i;
    } else if (roll < 25 || i < names_ / 50) {
      one.kind = Kind::Library;
    } else if (roll < 29) {
      one.kind = Kind::Provider;
      one.service = random_.below(1 + names_ / 100);
      one.excludes = random_.chance(30);
      services_.push_back(one.service);
    }
    const std::string stem = one.kind == Kind::Library ? "lib" + word() : word() + "-" + word();
    one.name = fmt::format("{}-{}", stem, i);
    if (one.kind == Kind::Family && one.family != i) {
      one.name = fmt::format("{}-{}", members_[one.family].name, word() + std::to_string(i - one.family));
      one.old_version = members_[one.family].old_version;
      one.new_version = members_[one.family].new_version;
    } else {
      const std::size_t major = 1 + random_.below(6), minor = random_.below(20);
      one.old_version = fmt::format("{}.{}-{}", major, minor, 1 + random_.below(4));
      one.new_version = one.old_version;
      if (random_.chance(42))
        one.new_version = random_.chance(15) ? fmt::format("{}.0-1", major + 1)
                                             : fmt::format("{}.{}-1", major, minor + 1 + random_.below(3));
      if (one.kind == Kind::Library) {
        one.old_interface = one.new_interface = static_cast<unsigned>(1 + random_.below(9));
        if (one.new_version != one.old_version && random_.chance(40)) ++one.new_interface;
        if (one.new_interface != one.old_interface && random_.chance(60)) rename(one, i);
      }
    }
    if (one.kind == Kind::Family && one.family != i) one.lags = members_[one.family].lags && i % 2 != 0;
    if (one.kind == Kind::Family && one.family == i) one.lags = random_.chance(8);
    link(one, i);
    if (one.new_version != one.old_version && random_.chance(5)) one.breaks = one_that_changed(i);
    // what came and went between the releases
    if (one.kind == Kind::Library && i > names_ / 50 && random_.chance(4)) one.in_new = false;
    if (one.kind == Kind::Plain && i > names_ / 50) {
      if (random_.chance(7)) {
        one.in_new = false;  // a stray on systems that have it
      } else if (random_.chance(2)) {
        one.in_old = false;
        if (random_.chance(60)) renamed(one, i);
      }
    }
    members_.push_back(std::move(one));
  }

  void link(Member& one, std::size_t i) {
    if (i == 0) return;
    const auto earlier = [&](double slope) {
      return std::min(i - 1, static_cast<std::size_t>(static_cast<double>(i) * std::pow(random_.unit(), slope)));
    };
    // a long tail: most require a few, some dozens
    const auto wanted = static_cast<std::size_t>(1.0 + 1.35 / std::pow(1.0 - random_.unit() * 0.995, 0.6));
    std::set<std::size_t> chosen;
    for (std::size_t k = 0; k < wanted; ++k) chosen.insert(earlier(random_.chance(91) ? 9.0 : 1.5));
    if (one.kind == Kind::Family && one.family != i) chosen.insert(one.family);
    for (const std::size_t to : chosen)
      if (members_[to].in_old && members_[to].kind != Kind::Provider) one.requires_.push_back(to);
    if (random_.chance(30))
      for (std::size_t k = 0; k < 1 + random_.below(3); ++k)
        if (const std::size_t to = earlier(2.0); members_[to].in_new && members_[to].in_old)
          one.recommends.push_back(to);
    if (one.kind != Kind::Provider && !services_.empty() && random_.chance(5))
      one.services.push_back(services_[random_.below(services_.size())]);
  }

  /// As libraries are whose interface stands in their name.
  void rename(Member& one, std::size_t i) {
    one.new_name = fmt::format("{}-next-{}", one.name.substr(0, one.name.rfind('-')), i);
    one.takes_over = i > names_ / 20 && random_.chance(35);
    one.is_against = !one.takes_over && i > names_ / 20 && random_.chance(30);
  }

  /// An earlier member with another version in the new release.
  std::size_t one_that_changed(std::size_t i) {
    for (int tries = 0; tries < 20; ++tries) {
      const std::size_t other = random_.below(std::max<std::size_t>(i, 1));
      if (other >= i) break;
      const Member& known = members_[other];
      if (known.kind == Kind::Plain && known.in_old && known.in_new && known.new_version != known.old_version)
        return other;
    }
    return Member::kNone;
  }

  /// Takes over from an old name that nobody else has taken, or that this one invents.
  void renamed(Member& one, std::size_t i) {
    one.replaces = fmt::format("old-{}-{}", word(), i);
    one.in_old = false;
  }

  /// Whoever uses an interface that changed was built again for the new release.
  void move_users_of_changed_libraries() {
    for (std::size_t i = 0; i < names_; ++i) {
      Member& one = members_[i];
      const bool uses = std::any_of(one.requires_.begin(), one.requires_.end(), [&](std::size_t to) {
        const Member& used = members_[to];
        return used.new_interface != used.old_interface || used.in_old != used.in_new;
      });
      if (!uses || one.new_version != one.old_version) continue;
      Member& head = one.kind == Kind::Family ? members_[one.family] : one;
      const std::string moved = head.old_version + ".1";
      if (head.new_version == head.old_version) head.new_version = moved;
    }
    for (Member& one : members_)
      if (one.kind == Kind::Family) one.new_version = members_[one.family].new_version;
  }

  const std::string& name_of(std::size_t i, bool now) const {
    const Member& one = members_[i];
    return now && !one.new_name.empty() ? one.new_name : one.name;
  }
  std::string interface_of(std::size_t i) const { return members_[i].name + "-interface"; }

  Package package(std::size_t i, bool in_new_release) {
    const Member& one = members_[i];
    const bool now = in_new_release && !(one.lags && one.family != i);
    Package package;
    package.name = name_of(i, now);
    package.version = Version::parse(now ? one.new_version : one.old_version).value();
    package.arch = i % 3 == 0 ? "independent" : "x86_64";
    package.summary =
        fmt::format("{} {} for the {} {}", prose(), random_.chance(10) ? word() : prose(), prose(), prose());
    for (std::size_t k = 0, count = words_ + random_.below(24); k < count; ++k)
      package.description += (k == 0 ? "" : " ") + prose();
    package.license = "MIT";
    package.homepage = fmt::format("https://{}.example/{}", one.name, word());
    package.maintainer = fmt::format("{} <{}@skerry.example>", word(), word());
    package.category = word();
    package.installed_size = 4096 * (1 + random_.below(4000));
    package.file_count = 1 + random_.below(200);
    const auto constraint = [](const std::string& text) { return parse_constraint(text, "bench"); };
    for (const std::size_t to : one.requires_) {
      const Member& other = members_[to];
      if (!(now ? other.in_new : other.in_old)) continue;
      std::string text = name_of(to, now);
      if (other.kind == Kind::Library && (to + i) % 3 != 0)
        text = fmt::format("{} = {}", interface_of(to), now ? other.new_interface : other.old_interface);
      else if (one.kind == Kind::Family && to == one.family)
        text = fmt::format("{} = {}", other.name, now ? one.new_version : one.old_version);
      else if ((to + i) % 2 == 0)
        text = fmt::format("{} >= {}", text, other.old_version.substr(0, other.old_version.find('.')));
      package.requires_.push_back({{constraint(text)}});
    }
    for (const std::size_t service : one.services)
      package.requires_.push_back({{constraint(fmt::format("service-{}", service))}});
    for (const std::size_t to : one.recommends) package.recommends.push_back({{constraint(name_of(to, now))}});
    if (now && one.takes_over) package.replaces.push_back(constraint(one.name));
    if (now && (one.takes_over || one.is_against)) package.conflicts.push_back(constraint(one.name));
    if (now && one.breaks != Member::kNone)
      package.conflicts.push_back(
          constraint(fmt::format("{} < {}", name_of(one.breaks, true), members_[one.breaks].new_version)));
    if (one.kind == Kind::Library)
      package.provides.push_back(
          constraint(fmt::format("{} = {}", interface_of(i), now ? one.new_interface : one.old_interface)));
    if (one.kind == Kind::Provider) {
      package.provides.push_back(constraint(fmt::format("service-{}", one.service)));
      if (one.excludes) package.conflicts.push_back(constraint(fmt::format("service-{}", one.service)));
    }
    if (now && !one.replaces.empty()) {
      package.replaces.push_back(constraint(one.replaces));
      package.provides.push_back(constraint(one.replaces + " = " + one.new_version));
    }
    return package;
  }

  /// A package that only brings others: the closures of hundreds that a whole desk or workshop comes as.
  void add_collection(World& world, std::size_t number) {
    Package package;
    package.name = fmt::format("collection-{}", number);
    package.version = Version::parse("1.0-1").value();
    package.arch = "independent";
    package.summary = fmt::format("all that belongs to {}", prose());
    package.license = "MIT";
    const auto some = [&](std::size_t count, std::vector<Relation>& relations) {
      std::set<std::size_t> chosen;
      while (chosen.size() < count) chosen.insert(names_ / 4 + random_.below(names_ - names_ / 4));
      for (const std::size_t to : chosen)
        if (members_[to].in_new && members_[to].kind != Kind::Provider)
          relations.push_back({{parse_constraint(name_of(to, true), "bench")}});
    };
    const std::size_t most = std::min<std::size_t>(names_ / 20, 130);
    some(std::min<std::size_t>(names_ / 40, 6), package.requires_);
    some(most / 4 + random_.below(most), package.recommends);
    add_offer(world, package, "base", "stable", number);
  }

  static void add_offer(World& world, const Package& package, const char* repository, const char* channel,
                        std::size_t i) {
    repo::IndexLine line;
    line.package = package;
    line.channel = channel;
    line.size = 1000 + package.installed_size / (3 + i % 4);
    line.digest = sha256(package.name + package.version.text());
    line.table_offset = line.size / 2;
    line.table_size = std::min<std::uint64_t>(100 + package.file_count * 40, line.size - line.table_offset);
    line.table_digest = sha256(package.version.text() + package.name);
    world.now.push_back({repository, std::move(line)});
  }

  /// The same version, built by somebody else: another file with one more requirement.
  void add_twin(World& world, Package package, std::size_t i) {
    package.requires_.push_back({{parse_constraint(name_of(random_.below(names_ / 50), true), "bench")}});
    package.installed_size += 4096;
    add_offer(world, package, "workshop", "stable", i);
    world.now.back().line.digest = sha256("twin of " + package.name);
  }

  void add_offers(World& world, std::size_t i) {
    const Member& one = members_[i];
    const char* repository = i < names_ * 9 / 10 ? "harbour" : "workshop";
    if (i < names_ * 55 / 100) repository = "base";
    const bool in_two = one.kind == Kind::Family && one.family % 3 == 0;  // its members come from two repositories
    if (in_two) repository = i % 2 == 0 ? "base" : "harbour";
    const Package now = package(i, true);
    add_offer(world, now, repository, "stable", i);
    if (one.kind == Kind::Plain && i % 97 == 0) add_twin(world, now, i);
    if (one.kind == Kind::Family || !random_.chance(11)) return;
    Package beta = now;
    beta.version = Version::parse(fmt::format("{}.99-1", one.new_version.substr(0, one.new_version.find('-')))).value();
    add_offer(world, beta, repository, "beta", i);
  }

  Random random_;
  std::size_t words_, names_;
  std::vector<std::size_t> services_;  // those that somebody provides
  std::vector<Member> members_;
};

}  // namespace

World make_world(const Shape& shape) { return Maker(shape).run(); }

System make_system(const World& world, bool current, std::size_t count, std::uint64_t seed) {
  std::vector<const Package*> all;
  std::vector<std::pair<std::string, Digest>> origin;
  if (current) {
    std::set<std::string> known;
    for (const Line& line : world.now) {
      if (line.line.channel != "stable" || !known.insert(line.line.package.title()).second) continue;
      all.push_back(&line.line.package);
      origin.emplace_back(line.repository + "/stable", line.line.digest);
    }
  } else {
    for (const Package& package : world.old) {
      all.push_back(&package);
      origin.emplace_back("base/stable", sha256("old" + package.name));
    }
    // what did not change between the releases is the same file
    std::map<std::string, std::pair<std::string, Digest>> same;
    for (const Line& line : world.now)
      same.emplace(line.line.package.title(), std::pair(line.repository + "/stable", line.line.digest));
    for (std::size_t i = 0; i < all.size(); ++i)
      if (const auto found = same.find(all[i]->title()); found != same.end()) origin[i] = found->second;
  }
  std::map<std::string, std::vector<std::size_t>> providers;
  for (std::size_t i = 0; i < all.size(); ++i) {
    providers[all[i]->name].push_back(i);
    for (const Constraint& one : all[i]->provides) providers[one.name].push_back(i);
  }
  Random random(seed);
  std::vector<bool> chosen(all.size(), false), wanted(all.size(), false);
  std::size_t number = 0;
  const auto clashes = [&](std::size_t a, const std::set<std::size_t>& more) {
    const auto against = [&](std::size_t x, std::size_t y) {
      return std::any_of(all[x]->conflicts.begin(), all[x]->conflicts.end(),
                         [&](const Constraint& c) { return x != y && satisfies(*all[y], c); });
    };
    for (const Constraint& provided : all[a]->provides)  // only what shares a provided name can clash here
      for (const std::size_t other : providers[provided.name])
        if ((chosen[other] || more.contains(other)) && (against(a, other) || against(other, a))) return true;
    return false;
  };
  for (std::size_t tries = 0; number < count && tries < 40 * count; ++tries) {
    const std::size_t start = random.below(all.size());
    std::set<std::size_t> more;
    std::vector<std::size_t> queue{start};
    bool possible = true;
    while (!queue.empty() && possible) {
      const std::size_t at = queue.back();
      queue.pop_back();
      if (chosen[at] || more.contains(at)) continue;
      if (clashes(at, more)) possible = false;
      more.insert(at);
      for (const Relation& relation : all[at]->requires_) {
        const auto& found = providers[relation.alternatives[0].name];
        const auto met = std::find_if(found.begin(), found.end(), [&](std::size_t one) {
          return (chosen[one] || more.contains(one)) && satisfies(*all[one], relation);
        });
        if (met != found.end()) continue;
        const auto take = std::find_if(found.begin(), found.end(), [&](std::size_t one) {
          return satisfies(*all[one], relation) && !clashes(one, more);
        });
        if (take == found.end()) {
          possible = false;
          break;
        }
        queue.push_back(*take);
      }
    }
    if (!possible || number + more.size() > count + count / 50 + 5) continue;
    for (const std::size_t one : more) chosen[one] = true;
    number += more.size();
    wanted[start] = true;
  }
  System system;
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (!chosen[i]) continue;
    system.packages.push_back(*all[i]);
    system.wanted.push_back(wanted[i]);
    system.origins.push_back(origin[i].first);
    system.digests.push_back(origin[i].second);
  }
  return system;
}

}  // namespace hambrel::bench
