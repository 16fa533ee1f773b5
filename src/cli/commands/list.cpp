// list: packages by condition, in any order, and what they take on the disk.
#include <fmt/format.h>

#include "base/text.h"
#include "cli/show/listing.h"
#include "operations/kept_list.h"

namespace hambrel::cli {

namespace {

constexpr int kFoundSome = 10;  // exit code of --exit-code

int code_of(const Arguments& arguments, std::size_t count) {
  return arguments.has("exit-code") && count > 0 ? kFoundSome : 0;
}

operations::Order order_of(const Arguments& arguments) {
  const std::string word = arguments.value("sort").value_or("name");
  if (word == "name") return operations::Order::Name;
  if (word == "size") return operations::Order::Size;
  if (word == "time") return operations::Order::Time;
  throw Error(ErrorCode::Usage, fmt::format("--sort {}: must be name, size or time", printable(word)));
}

/// What was laid out for no terminal fits into this one as it is; no line takes more columns than it has bytes.
bool fits_terminal(std::string_view text) {
  if (!output_is_terminal()) return true;
  const std::size_t width = terminal_width();
  for (const std::string_view line : split(text, '\n'))
    if (line.size() > width) return false;
  return true;
}

}  // namespace

int run_list(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words == std::vector<std::string>{"shelved"}) return code_of(arguments, show_shelved(session));
  if (words == std::vector<std::string>{"leftover"}) return code_of(arguments, show_leftover(session));
  if (words == std::vector<std::string>{"generated"}) return code_of(arguments, show_generated(session));
  if (words == std::vector<std::string>{"buildable"}) return code_of(arguments, show_buildable(session));
  if (words == std::vector<std::string>{"vulnerable"}) return code_of(arguments, show_vulnerable(session));
  session.tell_of_unusable_repositories();
  const bool all = words.empty() || words == std::vector<std::string>{"installed"};
  const bool plain = order_of(arguments) == operations::Order::Name && !arguments.value("most") && !session.json() &&
                     !session.screen().color();
  if (all && plain)
    if (const auto kept = operations::KeptList::open(session.root());
        kept && !kept->text().empty() && fits_terminal(kept->text())) {
      session.screen().raw(kept->text());
      return code_of(arguments, 1);
    }
  return code_of(arguments, show(session, ListingTerms{words, order_of(arguments), arguments.number("most")}));
}

}  // namespace hambrel::cli
