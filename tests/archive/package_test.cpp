#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/xattr.h>

#include <filesystem>
#include <map>
#include <random>
#include <set>

#include "archive/frame_codec.h"
#include "archive/package_reader.h"
#include "archive/package_writer.h"
#include "base/error.h"
#include "base/json.h"
#include "support/program.h"

namespace hambrel::archive {

using test::TempDir;
using test::write_file;
namespace fs = std::filesystem;

namespace {

/// Counts what is read, to show that a part is had without the rest.
class Counting final : public os::ReadableFile {
 public:
  Counting(std::string content, std::uint64_t& count) : file_(std::move(content)), count_(count) {}
  std::uint64_t size() const override { return file_.size(); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    count_ += into.size();
    return file_.read_at(offset, into);
  }

 private:
  os::MemoryFile file_;
  std::uint64_t& count_;
};

PackageSource describe() {
  return parse_package_toml(
      "name = \"sample\"\nversion = \"1-1\"\narch = \"independent\"\nsummary = \"s\"\n[config]\nfiles = "
      "[\"etc/*.conf\"]\n"
      "[[attributes]]\nfiles = \"usr/bin/su*\"\nuser = \"lamp\"\ngroup = \"lamps\"\nmode = \"4755\"\n",
      "package.toml");
}

std::string random_bytes(std::size_t size, unsigned seed) {
  std::mt19937 random(seed);
  std::string data(size, '\0');
  for (char& c : data) c = static_cast<char>(random());
  return data;
}

void make_tree(const fs::path& root) {
  write_file(root / "etc/sample.conf", "a = 1\n", 0640);
  write_file(root / "usr/bin/su-lamp", "#!/bin/sh\n", 0755);
  write_file(root / "usr/share/empty", "");
  write_file(root / "usr/share/with space/süd 北.txt", "names");
  write_file(root / "usr/share/big.bin", random_bytes(5'000'000, 1));
  write_file(root / "usr/share/middle.bin", random_bytes(100'000, 2));
  for (int i = 0; i < 60; ++i)
    write_file(root / ("usr/share/small/" + std::to_string(i)), random_bytes(9000, static_cast<unsigned>(i)));
  write_file(root / ("usr/share/" + std::string(120, 'l')), "a long name");
  fs::create_hard_link(root / "usr/share/middle.bin", root / "usr/share/same.bin");
  fs::create_symlink("../bin/su-lamp", root / "usr/share/link");
  fs::create_directory(root / "usr/share/empty directory");
  ::setxattr((root / "usr/share/empty").c_str(), "user.note", "hello", 5, 0);
  test::set_times(root, 1'700'000'000);
}

std::string pack(const fs::path& directory, int level = 3) {
  const auto source = os::open_file_system(directory.string());
  test::MemorySink memory;
  Observer silent;
  write_package(*source, "root", describe(), memory, {level, 0, 2}, silent);
  return memory.content;
}

std::unique_ptr<PackageReader> reader(std::string content) {
  return std::make_unique<PackageReader>(std::make_unique<os::MemoryFile>(std::move(content)), "sample.hambrel");
}

}  // namespace

class PackageFile : public testing::Test {
 protected:
  void SetUp() override { make_tree(directory / "root"); }
  TempDir directory;
};

TEST_F(PackageFile, HoldsEverythingOfTheTree) {
  const auto package = reader(pack(directory.path()));
  package->verify_all();
  EXPECT_EQ(package->manifest().title(), "sample 1-1");
  const auto su = package->find("usr/bin/su-lamp");
  EXPECT_EQ(su->mode, 04755U);
  EXPECT_EQ(su->user + ":" + su->group, "lamp:lamps");
  EXPECT_EQ(package->manifest().privileged, std::vector<std::string>{"usr/bin/su-lamp"});
  EXPECT_EQ(package->find("etc/sample.conf")->user, "root");
  EXPECT_TRUE(package->find("etc/sample.conf")->config);
  EXPECT_EQ(package->find("etc/sample.conf")->mode, 0640U);
  EXPECT_EQ(package->find("usr/share/same.bin")->type, EntryType::HardLink);
  EXPECT_EQ(package->find("usr/share/link")->target, "../bin/su-lamp");
  EXPECT_EQ(package->find("usr/share/empty")->attributes.at("user.note"), "hello");
  EXPECT_EQ(package->find("usr/share/empty directory")->type, EntryType::Directory);
  EXPECT_EQ(package->find("usr/share/big.bin")->mtime, 1'700'000'000);
  EXPECT_EQ(package->content(*package->find("usr/share/big.bin")), random_bytes(5'000'000, 1));
  EXPECT_EQ(package->content(*package->find("usr/share/same.bin")), random_bytes(100'000, 2));
  EXPECT_EQ(package->content(*package->find("usr/share/with space/süd 北.txt")), "names");
  EXPECT_EQ(package->content(*package->find("usr/share/empty")), "");
}

TEST_F(PackageFile, IsTheSameByteForByteWhoeverBuildsIt) {
  const std::string first = pack(directory.path());
  const TempDir other;
  make_tree(other / "root");
  EXPECT_EQ(first, pack(other.path()));
}

TEST_F(PackageFile, OneFileIsHadWithoutReadingTheRest) {
  const std::string content = pack(directory.path());
  std::uint64_t count = 0;
  const PackageReader package(std::make_unique<Counting>(content, count), "sample.hambrel");
  package.manifest();
  EXPECT_EQ(package.content(*package.find("usr/share/middle.bin")), random_bytes(100'000, 2));
  EXPECT_LT(count, content.size() / 20);
}

TEST_F(PackageFile, AnySelectionOfFilesIsUnpackedAsEachIsAlone) {
  const auto package = reader(pack(directory.path()));
  std::map<std::string, Digest> expected;
  for (const FileEntry& entry : package->contents().files().entries())
    if (entry.type == EntryType::File) expected[entry.path] = entry.digest;
  std::mt19937 random(3);
  for (const unsigned one_in : {1U, 2U, 5U, 20U, 60U}) {
    const auto entries = package->contents().files().entries();
    std::vector<std::size_t> wanted;
    for (std::size_t i = 0; i < entries.size(); ++i)
      if (expected.contains(entries[i].path) && random() % one_in == 0) wanted.push_back(i);
    std::map<std::string, Digest> got;
    Sha256 running;
    PackageReader::Sink sink;
    sink.begin = [](std::size_t) {};
    sink.data = [&](std::size_t, std::string_view data) { running.update(data); };
    sink.end = [&](std::size_t i) { got[entries[wanted[i]].path] = running.finish(); };
    archive::FrameDecoder decoder;
    package->extract(wanted, sink, decoder);
    EXPECT_EQ(got.size(), wanted.size());
    for (const auto& [path, digest] : got) EXPECT_EQ(digest, expected[path]) << path;
  }
}

TEST_F(PackageFile, IsAnOrdinaryCompressedTar) {
  const TempDir out;
  write_file(out / "sample.tar.zst", pack(directory.path()));
  fs::create_directory(out / "x");
  const auto ran =
      test::run({"tar", "--zstd", "--xattrs", "--no-same-owner", "-xpf", out / "sample.tar.zst", "-C", out / "x"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(ran.err, "");
  fs::remove_all(out / "x/.hambrel");
  auto expected = test::tree(directory / "root"), extracted = test::tree(out / "x");
  // the mode that package.toml sets differs from the source tree's
  expected.erase("usr/bin/su-lamp");
  extracted.erase("usr/bin/su-lamp");
  EXPECT_EQ(extracted, expected);
}

TEST(PackageFileDamage, CutAtAnyByteIsRefused) {
  const TempDir directory;
  write_file(directory / "root/etc/sample.conf", "a = 1\n");
  const std::string content = pack(directory.path());
  for (std::size_t size = 0; size < content.size(); ++size)
    EXPECT_THROW(reader(content.substr(0, size))->verify_all(), Error) << size;
}

TEST(PackageFileDamage, AFlippedBitAnywhereIsRefused) {
  const TempDir directory;
  write_file(directory / "root/etc/sample.conf", "a = 1\n");
  const std::string content = pack(directory.path());
  reader(content)->verify_all();
  for (std::size_t at = 0; at < content.size(); ++at)
    for (const int bit : {0, 3, 7}) {
      std::string damaged = content;
      damaged[at] = static_cast<char>(damaged[at] ^ (1 << bit));
      EXPECT_THROW(reader(damaged)->verify_all(), Error) << at;
    }
}

// ---- checksums right, content hostile
// -----------------------------------------------------------------------------------

namespace {

std::string plain_table(std::string_view stored) {
  FrameDecoder decoder;
  return std::string(decoder.decode_sized(stored, kMostTableBytes, "x"));
}

/// What decode_table() makes of a text, written in the one way; or that it refuses it.
std::string table_of(const std::string& text) {
  try {
    return plain_table(encode_table(decode_table(compress_frame(text, 1), "x")));
  } catch (const Error&) {
    return "refused";
  }
}

/// Rewrites the table of a good package with a change, all digests made right again.
std::string with_table(const std::string& content, const std::function<void(Json&)>& change) {
  const Footer before = decode_footer(content.substr(content.size() - kFooterSize), "x");
  Json table = parse_json(plain_table(content.substr(before.table_offset, before.table_size)), "x");
  change(table);
  const std::string stored = compress_frame(canonical(table), 3);
  std::string result = content.substr(0, before.table_offset - 8);
  result += skippable_header(kTableMagic, static_cast<std::uint32_t>(stored.size()));
  const std::uint64_t at = result.size();
  result += stored;
  return result + encode_footer({at, stored.size(), sha256(stored)});
}

std::string refusal(const std::string& content) {
  try {
    reader(content)->verify_all();
  } catch (const Error& error) {
    EXPECT_EQ(error.code() == ErrorCode::Untrusted || error.code() == ErrorCode::Invalid, true);
    return error.problem();
  }
  return "accepted";
}

}  // namespace

TEST(PackageFileTable, IsReadTheSameInAnyWritingWhateverStandsThere) {
  std::mt19937 random(4);
  const std::vector<std::string> texts{
      "etc/a", "usr/share/b c", "x/\u00e9t\u00e9", "q\"},{\"", "back\\slash", "\x01", "root", ""};
  const auto any = [&] { return texts[random() % texts.size()]; };
  for (int round = 0; round < 400; ++round) {
    Table table;
    table.frames.push_back({random(), random(), random(), sha256(any())});
    table.manifest_offset = 512;
    table.manifest_size = random();
    for (std::size_t i = 0; i < 1 + random() % 6; ++i) {
      Entry entry;
      entry.path = any();
      entry.user = any();
      entry.group = any();
      entry.type = static_cast<EntryType>(random() % 4);
      entry.mode = static_cast<std::uint32_t>(random() % 010000);
      entry.mtime = static_cast<std::int64_t>(random());
      if (entry.type == EntryType::File) {
        entry.size = random();
        entry.digest = sha256(any());
        entry.offset = random();
      }
      if (entry.type == EntryType::File) entry.frame = static_cast<std::uint32_t>(random() % 9);
      if (entry.type == EntryType::Symlink || random() % 9 == 0) entry.target = any();
      entry.config = random() % 5 == 0;
      if (random() % 9 == 0) entry.attributes["user." + std::to_string(i)] = any();
      table.entries.push_back(entry);
    }
    std::string text = plain_table(encode_table(table));
    EXPECT_EQ(table_of(text), text);
    EXPECT_EQ(table_of(" " + text), text) << "not the writing of encode_table()";
    for (int change = 0; change < 30; ++change) {  // a piece of it elsewhere, instead of another
      const std::size_t from = random() % text.size(), to = random() % text.size();
      std::string other = text;
      other.replace(to, random() % 12, text.substr(from, random() % 12));
      ASSERT_EQ(table_of(other), table_of(" " + other)) << other;
    }
    const std::string twice = text.substr(0, text.size() - 1) + ",\"entries\":[]}";
    ASSERT_EQ(table_of(twice), "refused");
  }
}

TEST(PackageFileHostile, EachLieIsRefusedByName) {
  const TempDir directory;
  write_file(directory / "root/etc/sample.conf", "a = 1\n");
  write_file(directory / "root/etc/target", "t");
  fs::create_symlink("target", directory / "root/etc/way");
  const std::string good = pack(directory.path());
  // entries: 0 etc, 1 etc/sample.conf, 2 etc/target, 3 etc/way
  const auto lie = [&](const std::function<void(Json&)>& change) { return refusal(with_table(good, change)); };
  EXPECT_EQ(lie([](Json&) {}), "accepted");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["path"] = "etc/../../x"; }), "a path with '.' or '..' (etc/../../x)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["path"] = "/etc/x"; }), "an absolute path (/etc/x)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][2]["path"] = "etc/sample.conf"; }), "the same path twice (etc/sample.conf)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["path"] = "etc/z"; }), "paths out of order (etc/target)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][3]["path"] = "etc/target/way"; }),
            "a path below something that is not a directory (etc/target/way)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][3]["path"] = "usr/way"; }),
            "a path whose directory is not in the package (usr/way)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][0]["path"] = "var/lib/hambrel"; }),
            "a package may not contain files in Hambrel's own directories (var/lib/hambrel)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][3]["target"] = "../../etc/shadow"; }),
            "a symbolic link that leads out of the root (etc/way)");
  EXPECT_EQ(lie([](Json& t) {
              t["entries"][3]["type"] = "hardlink";
              t["entries"][3]["target"] = "etc/shadow";
            }),
            "a hard link that names no earlier file of the package (etc/way)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["size"] = 1ULL << 30; }),
            "content larger than the package (etc/sample.conf)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["offset"] = 0; }),
            "content is not where the table puts it (etc/sample.conf)");
  EXPECT_EQ(lie([](Json& t) { t["frames"][1]["plain"] = 1ULL << 40; }),
            "a frame would unpack to 1099511627776 bytes, at most 16777216 are accepted");
  EXPECT_EQ(lie([](Json& t) { t["frames"][1]["offset"] = 1; }), "the frame at offset 1 does not follow the one before");
  EXPECT_EQ(lie([](Json& t) {
              t["entries"][1]["attributes"] = {{"trusted.x", "eA=="}};
            }),
            "an extended attribute that packages may not set (etc/sample.conf)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["mode"] = 04777; }),
            "the tar header of etc/sample.conf does not say what the table says");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["sha256"] = std::string(64, '0'); }),
            "the content of etc/sample.conf is not what the table says");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["mode"] = 1 << 20; }), "\"mode\" must be permission bits");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1]["type"] = "device"; }),
            "\"type\" must be file, directory, symlink or hardlink");
  const std::string deep(4096, 'x'), wide(256, 'x');
  EXPECT_EQ(lie([&](Json& t) { t["entries"][1]["path"] = deep; }), "a path longer than 4095 bytes (" + deep + ")");
  EXPECT_EQ(lie([&](Json& t) { t["entries"][1]["path"] = "etc/" + wide; }),
            "a name longer than 255 bytes (etc/" + wide + ")");
  EXPECT_EQ(lie([](Json& t) { t["entries"] = Json(kMostEntries + 1, Json::object()); }), "more than 1000000 entries");
  EXPECT_EQ(lie([](Json& t) { t["frames"][1]["plain"] = 1; }),
            "content is not where the table puts it (etc/sample.conf)");
  EXPECT_EQ(lie([](Json& t) { t["entries"][1].erase("size"); }), "\"size\" is missing (it must be a whole number)");
}

TEST_F(PackageFile, RightsOfAnotherThatTheManifestDoesNotNameAreRefused) {
  const auto package = reader(pack(directory.path()));
  Package silent = package->manifest();
  EXPECT_NO_THROW(require_named_privileges(package->contents().files(), silent, "x"));
  silent.privileged = {"usr/bin/other"};
  EXPECT_THROW(require_named_privileges(package->contents().files(), silent, "x"), Error);
  std::vector<FileEntry> files = package->contents().files().entries();
  files.front().type = EntryType::File;
  files.front().attributes["security.capability"] = "x";
  EXPECT_THROW(require_named_privileges(FileList::of(files), package->manifest(), "x"), Error);
}

TEST(PackageFileHostile, RandomChangesOfTheTableAreRefusedOrHarmless) {
  const TempDir directory;
  write_file(directory / "root/etc/sample.conf", "a = 1\n");
  write_file(directory / "root/usr/bin/su-lamp", "x");
  fs::create_symlink("sample.conf", directory / "root/etc/way");
  fs::create_hard_link(directory / "root/usr/bin/su-lamp", directory / "root/usr/bin/other");
  const std::string good = pack(directory.path());
  std::mt19937 random(11);
  const std::vector<Json> values{
      Json(),       Json(0),         Json(-1),   Json(1ULL << 63), Json(1.5),     Json(""), Json("etc/sample.conf"),
      Json("../x"), Json("symlink"), Json(true), Json::array(),    Json::object()};
  int refused = 0;
  for (int round = 0; round < 1500; ++round) {
    const std::string changed = with_table(good, [&](Json& table) {
      Json* at = &table;
      for (int depth = 0; depth < 4 && at->is_structured() && !at->empty(); ++depth) {
        auto child = at->begin();
        std::advance(child, static_cast<std::ptrdiff_t>(random() % at->size()));
        at = &*child;
        if (depth > 0 && random() % 3 == 0) break;
      }
      *at = values[random() % values.size()];
    });
    if (refusal(changed) != "accepted") ++refused;
  }
  EXPECT_GT(refused, 1200);
}

TEST(PackageFileSignatures, StandInOneFormOnlyAndNothingElseStandsThere) {
  const TempDir directory;
  write_file(directory / "root/etc/sample.conf", "a = 1\n");
  const std::string content = pack(directory.path());
  const std::string body = content.substr(0, content.size() - kFooterSize);
  const std::string end = content.substr(content.size() - kFooterSize);
  const auto read = [&](const std::string& between) {
    const std::string problem = refusal(body + between + end);
    return problem == "accepted" ? std::to_string(reader(body + between + end)->signatures().size()) : "refused";
  };
  const auto some = [](std::size_t count) {
    std::vector<PackageSignature> signatures(count);
    for (std::size_t i = 0; i < count; ++i) signatures[i].key[0] = static_cast<std::uint8_t>(i);
    return signatures;
  };
  EXPECT_EQ(read(""), "0");
  EXPECT_EQ(read(encode_signatures(some(1))), "1");
  EXPECT_EQ(read(encode_signatures(some(kMostSignatures))), std::to_string(kMostSignatures));
  EXPECT_EQ(read(encode_signatures(some(kMostSignatures + 1))), "refused");
  EXPECT_EQ(read(encode_signatures({})), "refused");
  EXPECT_EQ(read(encode_signatures({some(2)[1], some(2)[0]})), "refused") << "not ascending";
  EXPECT_EQ(read(encode_signatures({some(1)[0], some(1)[0]})), "refused") << "twice";
  EXPECT_EQ(read(encode_signatures(some(1)) + encode_signatures(some(1))), "refused");
  EXPECT_EQ(read(skippable_header(kSignaturesMagic, 0)), "refused");
  EXPECT_EQ(read(std::string(100, 'x')), "refused");
  const std::string good = encode_signatures(some(2));
  for (std::size_t i = 0; i < 24; ++i) {  // the head; what follows are keys and signatures
    std::string changed = good;
    changed[i] = static_cast<char>(changed[i] ^ 1);
    EXPECT_EQ(read(changed), "refused") << i;
  }
}

TEST(PackageWriter, RefusesWhatCanNotGoIntoAPackage) {
  const TempDir directory;
  write_file(directory / "root/etc/sample.conf", "a = 1\n");
  ::mkfifo((directory / "root/etc/pipe").c_str(), 0600);
  const auto problem = [&] {
    try {
      pack(directory.path());
    } catch (const Error& error) {
      return error.problem();
    }
    return std::string("accepted");
  };
  EXPECT_EQ(problem(), "only files, directories and links can be in a package");
  fs::remove(directory / "root/etc/pipe");
  write_file(directory / "root/etc/bad\nname", "x");
  EXPECT_EQ(problem(), "a path with a control character cannot be in a package");
  fs::remove(directory / "root/etc/bad\nname");
  fs::create_symlink("../../../outside", directory / "root/etc/way");
  EXPECT_EQ(problem(), "a symbolic link that leads out of the root (etc/way)");
  fs::remove(directory / "root/etc/way");
  fs::remove(directory / "root/etc/sample.conf");
  EXPECT_EQ(problem(), "config.files: \"etc/*.conf\" matches no file");
}

}  // namespace hambrel::archive
