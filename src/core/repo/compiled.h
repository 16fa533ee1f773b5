// The catalogue: what all indexes of a root say, compiled into one image that is mapped and not parsed (model/layer.h).
//
// Invariants: it is a cache and nothing else. It is used only if it was made from exactly the indexes that lie in the
// index cache now, by a program of the same format; otherwise everything is compiled in memory, and the next refresh
// writes it anew. It is replaced as a whole. Damage ends in DamagedImage, never in a wrong answer.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "model/layer.h"
#include "os/file_system.h"
#include "settings/settings.h"

namespace hambrel::repo {

inline constexpr const char* kCatalogueFile = "var/cache/hambrel/index/_catalogue.image";
inline constexpr const char* kInstalledFile = "var/cache/hambrel/index/_installed.image";

/// The index of one repository on its way into the catalogue.
struct IndexInput {
  std::string repository;
  Digest digest;       // of the compressed index: what the lines are known by
  Digest base;         // of the index file that they begin from: the same, unless there are deltas
  std::string stored;  // that file; empty: to be taken from `file`
  std::string file;    // below the root
  struct Piece {
    Digest digest;
    std::string stored;  // empty: to be taken from `file`
    std::string file;
  };
  std::vector<Piece> deltas{};  // what leads from there to the index, see index_delta.h
  std::string where;            // for messages
  std::size_t packages = 0;
  std::optional<Error> problem;  // why nothing of it could be used
};

/// Compiles the inputs. One that can't be read gets its problem, and the image is made of the others. `was_read` is
/// called with each that was read whole, and may let go of `stored` once that is in its file; what it throws is a
/// problem of the input.
ImagePieces compile_catalogue(os::FileReader& root, std::vector<IndexInput>& inputs,
                              const std::function<void(IndexInput&)>& was_read = {});

/// The stored catalogue, if it was made from these indexes, of other ones besides at most.
std::shared_ptr<const Layer> open_catalogue(os::FileReader& root, const std::vector<IndexInput>& inputs);

/// A layer over an image in memory.
std::shared_ptr<const Layer> layer_of(std::string image);

/// What is known of the installed packages beside them.
struct InstalledFacts {
  bool sound = false;                                       // what is installed meets its own relations
  std::map<std::string, std::string, std::less<>> follows;  // package name -> channel
};
/// The key of the overlay of installed packages.
std::string installed_key(const Layer& base, std::string_view state, const std::vector<std::string>& architectures,
                          const InstalledFacts& facts);
/// The stored overlay, if it belongs to this base, this state and these architectures, and what its maker knew.
std::shared_ptr<const Layer> open_installed(os::FileReader& root, const Layer& base, std::string_view state,
                                            const std::vector<std::string>& architectures, InstalledFacts& facts);

}  // namespace hambrel::repo
