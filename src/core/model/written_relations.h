// The relations of a package as they are written, not looked into yet.
//
// Of the lines of an index most say what others have said before: whoever remembers what a text came to need not read
// it again.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace hambrel {

enum class RelationList { Requires, Recommends, Suggests, Conflicts, Provides, Replaces };

class WrittenRelations {
 public:
  void clear() {
    text_.clear();
    all_.clear();
  }
  /// In the order of lists.
  void add(RelationList list, std::string_view text) {
    text_ += text;
    all_.push_back({list, static_cast<std::uint32_t>(text_.size())});
  }
  /// Calls f(RelationList, std::string_view) for each.
  template <typename Function>
  void each(Function f) const {
    std::uint32_t start = 0;
    for (const One& one : all_) {
      f(one.list, std::string_view(text_).substr(start, one.end - start));
      start = one.end;
    }
  }

 private:
  struct One {
    RelationList list;
    std::uint32_t end;  // in text_
  };
  std::string text_;  // of all, one after the other
  std::vector<One> all_;
};

}  // namespace hambrel
