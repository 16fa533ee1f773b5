#include "base/shared_text.h"

#include <algorithm>
#include <limits>
#include <new>
#include <stdexcept>

namespace hambrel {

SharedText::Held* SharedText::Held::make(std::string_view text) {
  if (text.size() > std::numeric_limits<std::uint32_t>::max()) throw std::length_error("text");
  void* const memory = ::operator new(sizeof(Held) + text.size());
  auto* const held = ::new (memory) Held{1, static_cast<std::uint32_t>(text.size())};
  std::copy(text.begin(), text.end(), held->text());
  return held;
}

void SharedText::Held::drop(Held* held) {
  held->~Held();
  ::operator delete(held);
}

}  // namespace hambrel
