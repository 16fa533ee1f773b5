#include "repo/compiled.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/parallel.h"
#include "base/text.h"
#include "model/layer_sections.h"
#include "repo/index_delta.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

std::string key_of(const std::vector<IndexInput>& inputs) {
  std::string key = fmt::format("catalogue {}\n", kLayerFormat);
  for (const IndexInput& one : inputs)
    if (!one.problem) key += fmt::format("{} {}\n", one.repository, one.digest.hex());
  return key;
}

LayerBuilder::Handle add_package(LayerBuilder& builder, const IndexInput& input, const RawIndexLine& one) {
  try {
    return builder.add(one.line.package, one.relations);
  } catch (const Error& problem) {
    throw Error(problem.code(), problem.problem(),
                fmt::format("{}: line {}: {}", input.where, input.packages + 1, one.line.package.name), problem.hint());
  }
}

void add_line(LayerBuilder& builder, const IndexInput& input, const RawIndexLine& one) {
  const IndexLine& line = one.line;
  Offer offer;
  offer.repository = input.repository;
  offer.channel = line.channel;
  offer.size = line.size;
  offer.digest = line.digest;
  offer.table_offset = line.table_offset;
  offer.table_size = line.table_size;
  offer.table_digest = line.table_digest;
  builder.add_offer(add_package(builder, input, one), offer);
}

/// What inputs hold: read by this thread, so that the memory is its own, and digested by another, while the input
/// before is compiled.
class Ahead {
 public:
  struct Stored {
    std::string index;  // empty where the input has it
    std::vector<std::string> deltas;
  };

  explicit Ahead(os::FileReader& root) : root_(root) {}

  /// `input` stays until take().
  void begin(const IndexInput& input) {
    stored_ = {};
    try {
      if (input.stored.empty()) stored_.index = root_.read_all(input.file, trust::kMostIndexBytes);
      for (const IndexInput::Piece& one : input.deltas)
        stored_.deltas.push_back(one.stored.empty() ? root_.read_all(one.file, trust::kMostIndexBytes) : one.stored);
      sound_ = aside([this, &input] { check(input); });
    } catch (const Error& problem) {
      sound_ = later([problem] { throw Error(problem); });
    }
  }
  bool has_begun() const { return sound_.valid(); }
  /// Throws Error{Untrusted} if it is not what was verified.
  Stored take() {
    sound_.get();
    return std::move(stored_);
  }

 private:
  void check(const IndexInput& input) const {
    const auto require = [&](const std::string& content, const Digest& digest) {
      if (sha256(content) != digest)
        throw Error(ErrorCode::Untrusted, "the cached index is damaged", input.where, "run `hambrel refresh`");
    };
    if (input.stored.empty()) require(stored_.index, input.base);
    for (std::size_t i = 0; i < input.deltas.size(); ++i)
      if (input.deltas[i].stored.empty()) require(stored_.deltas[i], input.deltas[i].digest);
  }

  os::FileReader& root_;
  Stored stored_;
  Aside<void> sound_;
};

/// False if one of the inputs turned out to be unusable: the builder is spoilt then.
bool add_all(os::FileReader& root, LayerBuilder& builder, std::vector<IndexInput>& inputs,
             const std::function<void(IndexInput&)>& was_read) {
  const auto usable_from = [&](auto first) {
    return std::find_if(first, inputs.end(), [](const IndexInput& input) { return !input.problem; });
  };
  Ahead ahead(root);
  for (auto at = usable_from(inputs.begin()); at != inputs.end(); at = usable_from(at + 1)) {
    IndexInput& input = *at;
    try {
      if (!ahead.has_begun()) ahead.begin(input);
      const Ahead::Stored read = ahead.take();
      if (const auto next = usable_from(at + 1); next != inputs.end()) ahead.begin(*next);
      const std::string& stored = input.stored.empty() ? read.index : input.stored;
      input.packages = 0;
      read_index_with(stored, read.deltas, input.where, [&](RawIndexLine&& line) {
        add_line(builder, input, line);
        ++input.packages;
      });
      if (was_read) was_read(input);
    } catch (const Error& problem) {
      input.problem = problem;
      return false;
    }
  }
  return true;
}

}  // namespace

ImagePieces compile_catalogue(os::FileReader& root, std::vector<IndexInput>& inputs,
                              const std::function<void(IndexInput&)>& was_read) {
  for (;;) {
    LayerBuilder builder;
    if (add_all(root, builder, inputs, was_read)) return builder.finish(key_of(inputs));
  }
}

std::shared_ptr<const Layer> layer_of(std::string image) {
  auto opened = Image::open(std::make_shared<OwnedBytes>(std::move(image)));
  if (!opened) throw DamagedImage();
  return std::make_shared<Layer>(std::move(*opened));
}

std::shared_ptr<const Layer> open_catalogue(os::FileReader& root, const std::vector<IndexInput>& inputs) {
  if (!root.stat(kCatalogueFile)) return nullptr;
  auto image = Image::open(root.map(kCatalogueFile));
  if (!image) return nullptr;
  const auto lines = split(image->key(), '\n');
  if (lines.empty() || lines[0] != fmt::format("catalogue {}", kLayerFormat)) return nullptr;
  for (const IndexInput& one : inputs)
    if (std::find(lines.begin(), lines.end(), fmt::format("{} {}", one.repository, one.digest.hex())) == lines.end())
      return nullptr;
  return std::make_shared<Layer>(std::move(*image));
}

namespace {

std::string installed_place(const Layer& base, std::string_view state, const std::vector<std::string>& architectures) {
  return fmt::format("installed {} upon {:016x}\n{}\n{}", kLayerFormat, base.stamp(), join(architectures, " "), state);
}

}  // namespace

std::string installed_key(const Layer& base, std::string_view state, const std::vector<std::string>& architectures,
                          const InstalledFacts& facts) {
  std::string key = installed_place(base, state, architectures) + (facts.sound ? "\nsound" : "\nnot checked");
  for (const auto& [name, channel] : facts.follows) key += fmt::format("\n{} {}", name, channel);
  return key;
}

std::shared_ptr<const Layer> open_installed(os::FileReader& root, const Layer& base, std::string_view state,
                                            const std::vector<std::string>& architectures, InstalledFacts& facts) {
  if (state.empty() || !root.stat(kInstalledFile)) return nullptr;
  auto image = Image::open(root.map(kInstalledFile));
  if (!image) return nullptr;
  std::string_view key = image->key();
  const std::string place = installed_place(base, state, architectures) + "\n";
  if (!key.starts_with(place)) return nullptr;
  key.remove_prefix(place.size());
  const auto lines = split(key, '\n');
  facts.sound = lines[0] == "sound";
  for (std::size_t i = 1; i < lines.size(); ++i)
    if (const auto space = lines[i].find(' '); space != std::string_view::npos)
      facts.follows.emplace(lines[i].substr(0, space), lines[i].substr(space + 1));
  return std::make_shared<Layer>(std::move(*image));
}

}  // namespace hambrel::repo
