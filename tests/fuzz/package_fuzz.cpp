// Package files from a stranger. The first byte of an input chooses: 'R', the rest is a whole package file; 'T', the
// rest is the text of a table of contents, which is put into a good package with all checksums right, as a hostile
// builder would. Whatever is accepted must be harmless: the invariants T1 to T4 of table.h, looked at anew.
#include <cstdlib>
#include <fstream>
#include <numeric>
#include <set>

#include "archive/frame_codec.h"
#include "archive/package_reader.h"
#include "archive/package_writer.h"
#include "base/error.h"
#include "support/program.h"

namespace {

using namespace hambrel;
using namespace hambrel::archive;

const std::string& good_package() {
  static const std::string content = [] {
    const test::TempDir directory;
    test::write_file(directory / "root/etc/sample.conf", "a = 1\n");
    test::write_file(directory / "root/usr/bin/tool", "#!/bin/sh\n", 0755);
    test::write_file(directory / "root/usr/share/large", std::string(70'000, 'x'));
    std::filesystem::create_symlink("tool", directory / "root/usr/bin/way");
    std::filesystem::create_hard_link(directory / "root/usr/bin/tool", directory / "root/usr/bin/zwilling");
    test::set_times(directory / "root", 1'700'000'000);
    const auto files = os::open_file_system(directory.text());
    test::MemorySink sink;
    Observer silent;
    write_package(*files, "root",
                  parse_package_toml("name = \"sample\"\nversion = \"1\"\narch = \"independent\"\nsummary = \"s\"\n",
                                     "package.toml"),
                  sink, {3, 0, 1}, silent);
    return sink.content;
  }();
  return content;
}

std::string with_table(std::string_view text) {
  static const Footer before = decode_footer(good_package().substr(good_package().size() - kFooterSize), "good");
  const std::string stored = compress_frame(text, 1);
  std::string result = good_package().substr(0, before.table_offset - 8);
  result += skippable_header(kTableMagic, static_cast<std::uint32_t>(stored.size()));
  const std::uint64_t at = result.size();
  result += stored;
  return result + encode_footer({at, stored.size(), sha256(stored)});
}

void require(bool holds) {
  if (!holds) std::abort();
}

void look_at(const std::string& content) {
  const PackageReader reader(std::make_unique<os::MemoryFile>(content), "input");
  std::set<std::string> directories{""}, files;
  std::string before;
  for (const FileEntry& entry : reader.contents().files().entries()) {
    require(path_problem(entry.path).empty() && entry.path > before);
    require(directories.contains(std::string(os::parent_of(entry.path))));
    require((entry.mode & ~07777U) == 0);
    if (entry.type == EntryType::Directory) directories.insert(entry.path);
    if (entry.type == EntryType::File) files.insert(entry.path);
    if (entry.type == EntryType::HardLink) require(files.contains(entry.target));
    before = entry.path;
  }
  std::uint64_t left = 0;
  PackageReader::Sink sink;
  std::vector<std::size_t> all(reader.contents().size());
  std::iota(all.begin(), all.end(), 0);
  sink.begin = [&](std::size_t i) {
    const Entry entry = reader.contents().entry(i);
    left = entry.type == EntryType::File ? entry.size : 0;
  };
  sink.data = [&](std::size_t, std::string_view data) {
    require(data.size() <= left);
    left -= data.size();
  };
  sink.end = [&](std::size_t) { require(left == 0); };
  FrameDecoder decoder;
  reader.extract(all, sink, decoder);
  reader.verify_all();
}

/// What a text is as a table, written in the one way.
std::string table_of(const std::string& text) {
  try {
    return encode_table(decode_table(compress_frame(text, 1), "input"));
  } catch (const Error&) {
    return "refused";
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const std::string_view rest(reinterpret_cast<const char*>(data) + 1, size - 1);
  try {
    if (data[0] == 'R') look_at(std::string(rest));
    if (data[0] == 'T') {
      require(table_of(std::string(rest)) == table_of(" " + std::string(rest)));  // in another writing
      look_at(with_table(rest));
    }
  } catch (const Error&) {  // refused
  }
  return 0;
}

/// HAMBREL_FUZZ_SEEDS=DIR writes inputs to begin with, and ends.
extern "C" int LLVMFuzzerInitialize(int*, char***) {
  const char* const directory = std::getenv("HAMBREL_FUZZ_SEEDS");
  if (directory == nullptr) return 0;
  const Footer footer = decode_footer(good_package().substr(good_package().size() - kFooterSize), "good");
  FrameDecoder decoder;
  const std::string_view table = decoder.decode_sized(
      std::string_view(good_package()).substr(footer.table_offset, footer.table_size), kMostTableBytes, "good");
  std::ofstream(std::string(directory) + "/whole") << 'R' << good_package();
  std::ofstream(std::string(directory) + "/table") << 'T' << table;
  std::exit(0);
}
