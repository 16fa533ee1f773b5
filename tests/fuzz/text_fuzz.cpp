// Texts from a stranger. The first byte of an input chooses the reader: M manifest, I lines of an index, P documents
// that point to one, R root documents, T timestamps, N snapshots, G lists of targets, B signatures of a package file, K
// keys in PEM, V versions and relations, S specs of the command line, C recipes, L lists of recipes, A advisories, W
// news, E sets of packages, D deltas of an index, X files whose relations are looked for.
#include <cstdlib>
#include <filesystem>
#include <string>
#include <string_view>
#include <system_error>

#include "archive/found_relations.h"
#include "archive/frame_codec.h"
#include "archive/signatures.h"
#include "base/error.h"
#include "build/recipe.h"
#include "model/advisory.h"
#include "model/manifest.h"
#include "model/spec.h"
#include "operations/sets.h"
#include "repo/index.h"
#include "repo/index_delta.h"
#include "repo/path_index.h"
#include "repo/recipe_list.h"
#include "trust/documents.h"
#include "trust/root.h"
#include "trust/signing.h"

namespace {

using namespace hambrel;

void require(bool holds) {
  if (!holds) std::abort();
}

/// A document that whoever may has signed, whatever it says.
void read_signed(std::string_view text, trust::Root::Of role) {
  static const trust::KeyRing ring = [] {
    trust::KeyRing keys;
    for (const trust::Root::Of one : trust::kRoles)
      keys.emplace_back(trust::Root::name_of(one), trust::PrivateKey::make());
    return keys;
  }();
  static const trust::Root root = trust::Root::known(trust::make_first_root(ring, 0, "keys").text(), "root");
  auto document = trust::SignedDocument::parse(text, trust::Root::name_of(role), "input");
  require(!trust::sign_as(document, root, role, ring));
  const std::string written = document.text();
  require(root.verified(written, role, "again").fingerprint() == document.fingerprint());
  if (role == trust::Root::Of::Targets)
    trust::read_indexes(written, "input");
  else
    trust::read_pointer(written, trust::Root::name_of(role), "input");
}

/// As a file of a package that could be a program, a script or a module.
void find_relations_of(std::string_view text) {
  struct Directory {
    Directory() { require(::mkdtemp(name.data()) != nullptr); }
    ~Directory() {
      std::error_code ignored;
      std::filesystem::remove_all(name, ignored);
    }
    std::string name = "/dev/shm/hambrel-fuzz-XXXXXX";
  };
  static const Directory directory;
  static const auto files = os::open_file_system(directory.name);
  files->make_directories("usr/lib/pkgconfig");
  for (const char* const name : {"usr/lib/libx.so.1", "usr/lib/pkgconfig/x.pc"}) files->replace_cache(name, text, 0755);
  archive::find_relations(*files, "");
}

void read(char kind, std::string_view text) {
  switch (kind) {
    case 'M': {
      const Package package = parse_manifest(text, "input");
      const std::string written = manifest_text(package);
      require(manifest_text(parse_manifest(written, "again")) == written);  // what is read is written the same for ever
      return;
    }
    case 'I': {
      LayerBuilder builder;
      repo::read_index(archive::compress_frame(text, 1), "input", [&](repo::RawIndexLine&& one) {
        Offer offer;
        offer.repository = "r";
        offer.channel = one.line.channel;
        builder.add_offer(builder.add(one.line.package, one.relations), offer);
      });
      const std::string image = builder.finish("key").joined();
      require(Image::open(std::make_shared<OwnedBytes>(image)).has_value());
      return;
    }
    case 'P':
      trust::read_indexes(text, "input");
      trust::read_pointer(text, "snapshot", "input");
      return;
    case 'R': {
      const auto root = trust::Root::known(text, "input");
      require(trust::Root::known(root.document().text(), "again").fingerprint_text() == root.fingerprint_text());
      trust::Root::first(text, "input");
      return;
    }
    case 'T': read_signed(text, trust::Root::Of::Timestamp); return;
    case 'N': read_signed(text, trust::Root::Of::Snapshot); return;
    case 'G': read_signed(text, trust::Root::Of::Targets); return;
    case 'B': require(archive::encode_signatures(archive::decode_signatures(text, "input")) == text); return;
    case 'K':
      if (text.find("PRIVATE") == text.npos)
        trust::PublicKey::from_pem(text, "input");
      else
        trust::PrivateKey::from_pem(text, "input", [] { return std::string("x"); });
      return;
    case 'V': {
      const auto half = text.find('\n');
      const std::string_view a = text.substr(0, half), b = half == text.npos ? a : text.substr(half + 1);
      require(order_versions(a, b) == -order_versions(b, a));
      require(order_versions(a, a) == 0);
      const Relation relation = parse_relation(text, "input");
      require(parse_relation(relation.text(), "again").text() == relation.text());
      return;
    }
    case 'F':
      repo::PathIndex(std::make_unique<os::MemoryFile>(std::string(text)), "input").holders("usr/bin/lamp");
      return;
    case 'C': build::parse_recipe(text, "input", "x86_64"); return;
    case 'L': {
      const std::string written = repo::recipe_list_text(repo::parse_recipe_list(text, "input"));
      require(written.empty() || repo::recipe_list_text(repo::parse_recipe_list(written, "again")) == written);
      return;
    }
    case 'A':
      for (const Advisory& one : parse_advisories(text, "input")) one.affects("saltdb", *Version::parse("1.9-2"));
      return;
    case 'W': parse_news(text, "input"); return;
    case 'E': operations::read_set(text, "input"); return;
    case 'D': {
      const std::string delta = archive::compress_frame(text, 1);
      static const std::string index = archive::compress_frame("", 1);
      repo::read_index_with(index, {delta}, "input", [](repo::RawIndexLine&&) {});
      return;
    }
    case 'X': find_relations_of(text); return;
    case 'S': parse_spec(std::string(text)); return;
    default: return;
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  try {
    read(static_cast<char>(data[0]), {reinterpret_cast<const char*>(data) + 1, size - 1});
  } catch (const Error&) {  // refused
  }
  return 0;
}
