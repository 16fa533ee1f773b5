// A map by text that is asked with a view of it: no string is made for the asking.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <unordered_map>

namespace hambrel {

struct TextHash {
  using is_transparent = void;
  std::size_t operator()(std::string_view text) const { return std::hash<std::string_view>()(text); }
};

/// In no order; what it holds stays where it is.
template <typename Value>
using TextMap = std::unordered_map<std::string, Value, TextHash, std::equal_to<>>;

}  // namespace hambrel
