// Texts from a stranger. The first byte of an input chooses the reader: M manifest, I lines of an index, P documents
// that point to one, R root documents, K keys in PEM, V versions and relations, S specs of the command line.
#include <cstdlib>
#include <string>
#include <string_view>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "model/manifest.h"
#include "model/spec.h"
#include "repo/index.h"
#include "repo/path_index.h"
#include "trust/documents.h"
#include "trust/root.h"

namespace {

using namespace hambrel;

void require(bool holds) {
  if (!holds) std::abort();
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
        offer.repository = "r", offer.channel = one.line.channel;
        builder.add_offer(builder.add(one.line.package, one.relations), offer);
      });
      const std::string image = builder.finish("key");
      require(Image::open(std::make_shared<OwnedBytes>(image)).has_value());
      return;
    }
    case 'P':
      trust::read_indexes(text, "input");
      trust::read_pointer(text, "snapshot", "input");
      return;
    case 'R': {
      const auto root = trust::Root::first(text, "input");
      require(trust::Root::first(root.document().text(), "again").fingerprint_text() == root.fingerprint_text());
      return;
    }
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
