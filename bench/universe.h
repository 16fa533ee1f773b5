// A made-up distribution of any size, from a seed: for benchmarks, and for tests that need something large.
//
// Two releases of one tree of packages. Names stand in the order of their making and require earlier ones, the early
// ones far more often (long tails both ways). Some names form families whose members are locked to one version; some
// are libraries that provide an interface by number, which changes between the releases, so that what uses it has to
// move along; some of these change their names with it, and replace the old one, conflict with it, or stand beside it.
// Some exist in the old release only, required by others there, or were renamed; some conflict with the old versions of
// others; some provide a name that several provide. Families come from two repositories, of which one may be behind; a
// few versions are there twice, as two files. A fifth of a system of the old release is renamed or gone in the new one.
// A few are collections that bring hundreds along.
// Within each release everything can be installed that does not conflict; between the two, upgrades have to fight.
// The same seed and size give the same universe on every machine.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "repo/index.h"

namespace hambrel::bench {

struct Shape {
  std::size_t packages = 1000;  // package versions in all repositories together, about
  std::uint64_t seed = 1;
  std::size_t description_words = 22;  // and up to 23 more
};

struct Line {
  std::string repository;  // base, harbour or workshop
  repo::IndexLine line;
};

struct World {
  std::vector<Line> now;     // what the repositories offer
  std::vector<Package> old;  // the packages of the release before, one version of each name
};

World make_world(const Shape& shape);

/// About `count` packages of one release that can be installed together, as if asked for at random: wanted ones, and
/// what they require. `wanted[i]` tells which were asked for.
struct System {
  std::vector<Package> packages;
  std::vector<bool> wanted;
  std::vector<std::string> origins;
  std::vector<Digest> digests;
};
System make_system(const World& world, bool current, std::size_t count, std::uint64_t seed);

}  // namespace hambrel::bench
