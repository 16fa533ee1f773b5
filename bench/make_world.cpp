// make_world DIR PACKAGES SEED [WORDS] - writes a made-up distribution as published repositories, and roots upon it:
//   DIR/repos/{base,harbour,workshop}    to be refreshed from (indexes only: there are no package files)
//   DIR/raw.json                         all indexes as one JSON array: what unit P is the parsing of
//   DIR/current                          a root with 3,000 installed packages of the present, 400,000 files
//   DIR/outdated, DIR/large              roots with 3,000 and 10,000 packages of the last release
//   DIR/random.txt                       300 names that are not installed in `current`, at random
#include <fmt/format.h>

#include <cstdio>
#include <filesystem>
#include <fstream>
#include <map>

#include "archive/frame_codec.h"
#include "base/text.h"
#include "repo/path_index.h"
#include "state/state.h"
#include "trust/documents.h"
#include "universe.h"

namespace {

using namespace hambrel;

void write(const std::filesystem::path& path, std::string_view text) {
  std::filesystem::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary) << text;
}

void write_repository(const std::filesystem::path& directory, const std::vector<repo::IndexLine>& lines,
                      std::string& raw) {
  const std::string plain = repo::index_text(lines), stored = archive::compress_frame(plain, 6);
  for (const std::string_view line : split(plain, '\n'))
    if (!line.empty()) raw.append(raw.size() > 1 ? ",\n" : "").append(line);
  repo::PathIndexWriter all;
  for (const repo::IndexLine& line : lines) {
    std::vector<std::string> paths;
    for (int i = 0; i < 20; ++i)
      paths.push_back(fmt::format("usr/share/{}/part-{}/data-{}", line.package.name, i / 5, i));
    all.add(line.package, std::move(paths));
  }
  const std::string paths = all.finish();
  trust::Indexes indexes{{"index/full-1.jsonl.zst", 1, stored.size(), sha256(stored)}};
  indexes.paths = trust::Pointer{"index/files-1.zst", 1, paths.size(), sha256(paths)};
  const trust::Metadata made = trust::make_metadata(1, indexes, 1'790'000'000);
  write(directory / "index/full-1.jsonl.zst", stored);
  write(directory / "index/files-1.zst", paths);
  write(directory / "trust/timestamp.json", made.timestamp);
  write(directory / "trust/1.snapshot.json", made.snapshot);
  write(directory / "trust/1.targets.json", made.targets);
}

void write_root(const std::filesystem::path& root, const std::filesystem::path& repositories,
                const bench::System& system, int files) {
  unsigned rank = 40;
  for (const char* const name : {"base", "harbour", "workshop"})
    write(root / "etc/hambrel/repos" / (std::string(name) + ".toml"),
          fmt::format("url = \"file://{}/{}\"\nchannels = [\"stable\"]\nrank = {}\ntrust = \"none\"\n",
                      repositories.string(), name, rank += 10));
  write(root / "etc/hambrel/hambrel.toml", "arch = \"x86_64\"\n");
  std::filesystem::create_directories(root / "var/lib/hambrel");
  const auto files_of_root = os::open_file_system(root.string());
  state::State state(*files_of_root, "var/lib/hambrel/state.sqlite", state::Access::Change);
  std::vector<state::PackageChange> changes;
  for (std::size_t i = 0; i < system.packages.size(); ++i) {
    state::PackageChange change;
    change.name = system.packages[i].name;
    state::StatePackage after;
    after.package = system.packages[i];
    after.reason = system.wanted[i] ? Reason::Wanted : Reason::PulledIn;
    after.origin = system.origins[i];
    after.digest = system.digests[i];
    after.time = 1'790'000'000;
    change.after = std::move(after);
    std::vector<FileEntry> own;
    for (int k = 0; k < files; ++k) {
      FileEntry file;
      file.path = fmt::format("usr/share/{}/part-{}/data-{}", change.name, k / 20, k);
      file.mode = 0644;
      file.user = file.group = "root";
      file.size = 100;
      own.push_back(std::move(file));
    }
    change.files = FileList::of(own);
    changes.push_back(std::move(change));
  }
  state::LedgerEntry entry;
  entry.id = state.next_id();
  entry.kind = "install";
  entry.result = "done";
  entry.record = "{}";
  entry.command = "make_world";
  entry.user = "bench";
  state.record(entry, changes);
  std::printf("%s: %zu packages\n", root.c_str(), system.packages.size());
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 4 && count != 5) {
    std::fprintf(stderr, "make_world DIR PACKAGES SEED [WORDS]\n");
    return 2;
  }
  const std::filesystem::path directory = std::filesystem::absolute(arguments[1]);
  const auto packages = parse_number(arguments[2]), seed = parse_number(arguments[3]);
  bench::Shape shape{*packages, *seed};
  if (count == 5) shape.description_words = static_cast<std::size_t>(*parse_number(arguments[4]));
  const bench::World world = bench::make_world(shape);
  std::map<std::string, std::vector<repo::IndexLine>> lines;
  for (const bench::Line& one : world.now) lines[one.repository].push_back(one.line);
  std::string raw = "[";
  for (const auto& [name, some] : lines) write_repository(directory / "repos" / name, some, raw);
  write(directory / "raw.json", raw + "]\n");
  std::printf("%zu package versions, %zu bytes of JSON\n", world.now.size(), raw.size());
  const std::size_t installed = std::min<std::size_t>(3000, *packages / 3);
  const bench::System current = bench::make_system(world, true, installed, *seed + 1);
  write_root(directory / "current", directory / "repos", current, 133);
  write_root(directory / "outdated", directory / "repos", bench::make_system(world, false, installed, *seed + 2), 1);
  write_root(directory / "large", directory / "repos",
             bench::make_system(world, false, std::min<std::size_t>(10000, *packages / 3), *seed + 3), 1);
  std::map<std::string, bool> there;
  for (const Package& package : current.packages) there[package.name] = true;
  std::string names;
  std::uint64_t place = *seed;
  for (int i = 0; i < 300;) {
    place = place * 6364136223846793005U + 1442695040888963407U;
    const bench::Line& one = world.now[(place >> 33U) % world.now.size()];
    if (one.line.channel != "stable" || there[one.line.package.name]) continue;
    there[one.line.package.name] = true;
    names += one.line.package.name + "\n";
    ++i;
  }
  write(directory / "random.txt", names);
  return 0;
}
