// export-set, import-set, compare: the packages of one root, of another one, or in a file.
#include "operations/sets.h"

#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/differences.h"

namespace hambrel::cli {

namespace {

constexpr int kDiffers = 10;  // exit code of --exit-code

operations::PackageSet set_in(const std::string& file) {
  return operations::read_set(text_given(file), file == "-" ? "standard input" : file);
}

}  // namespace

int run_export_set(Session& session, const Arguments& arguments) {
  const auto set = operations::set_of(session.root());
  const std::string text = operations::text_of(set, arguments.has("versions"));
  if (arguments.words().empty() || arguments.words()[0] == "-") {
    session.screen().raw(text);
    return 0;
  }
  const std::string& file = arguments.words()[0];
  operations::write_set(text, file);
  session.say({{"file", file}, {"wanted", set.wanted.size()}, {"installed", set.installed.size()}},
              fmt::format("{}: {}, of which {} are wanted", file,
                          count_text(set.installed.size(), "package", "packages"), set.wanted.size()));
  return 0;
}

int run_import_set(Session& session, const Arguments& arguments) {
  const operations::PackageSet set = set_in(arguments.words()[0]);
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "import-set");
  operations::ask_for(session.root(), set, arguments.has("exact"), request);
  return carry_out(session, arguments, std::move(request));
}

int run_compare(Session& session, const Arguments& arguments) {
  const auto with = arguments.value("with");
  if (!with)
    throw Error(ErrorCode::Usage, "compare needs another system, or a file", {},
                "--with DIR of another system, or --with FILE of `hambrel export-set`");
  const operations::PackageSet there = *with == "-" ? set_in(*with) : operations::set_at(*with, session.progress());
  const std::size_t count = show(session, operations::differences(operations::set_of(session.root()), there));
  return arguments.has("exit-code") && count > 0 ? kDiffers : 0;
}

}  // namespace hambrel::cli
