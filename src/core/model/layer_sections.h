// The numbers of a layer's arrays in its image. Adding or changing one asks for a new kLayerFormat.
#pragma once

#include <cstdint>

namespace hambrel {

inline constexpr std::uint32_t kLayerFormat = 13;

enum class Section : std::uint32_t {
  Names = 1,
  Text,
  Packages,
  Uses,
  Relations,
  Constraints,
  Candidates,
  Details,
  Offers,
  OfferFiles,
  Places,
  Architectures,
  Lists,
  Words,
  WordRecords,
  Postings,
  Installed,
  Providers,
  Replacers,
  InstalledHeads,
  Against,
  NameStarts,
  ProviderStarts,
};

}  // namespace hambrel
