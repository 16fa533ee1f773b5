// A list of things of one kind: a document of JSON for each, or all together a table.
#pragma once

#include <initializer_list>
#include <string_view>

#include "cli/session.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

class Rows {
 public:
  explicit Rows(const Session& session) : session_(session) {}

  /// `document` makes the JSON, where that is wanted.
  template <typename Document>
  void add(const Document& document, std::initializer_list<Cell> cells) {
    ++count_;
    if (session_.json())
      session_.document(document());
    else
      table_.row(cells);
  }
  /// Prints the table; where there is nothing, the sentence, unless --quiet was given.
  void print(std::string_view if_none = {}) const {
    if (session_.json()) return;
    table_.print(session_.screen());
    if (count_ == 0 && !if_none.empty() && !session_.quiet()) session_.screen().line(if_none);
  }
  std::size_t count() const { return count_; }
  Table& table() { return table_; }

 private:
  const Session& session_;
  Table table_;
  std::size_t count_ = 0;
};

}  // namespace hambrel::cli
