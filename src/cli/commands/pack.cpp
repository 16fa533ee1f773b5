// pack and publish.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "operations/publishing.h"

namespace hambrel::cli {

int run_pack(Session& session, const Arguments& arguments) {
  operations::PackRequest request;
  request.directory = arguments.words()[0];
  request.output = arguments.value("output").value_or("");
  const std::string level_text = arguments.value("level").value_or("9");
  const auto level = parse_number(level_text);
  if (!level || *level < 1 || *level > 19)
    throw Error(ErrorCode::Usage, fmt::format("--level {}: must be a number from 1 to 19", printable(level_text)));
  request.level = static_cast<int>(*level);
  const operations::Packed packed = operations::pack(request, session.progress());
  const Package& package = packed.written.package;
  session.say({{"file", packed.file},
               {"name", package.name},
               {"version", package.version.text()},
               {"arch", package.arch},
               {"size", packed.written.size},
               {"sha256", packed.written.digest.hex()},
               {"installed_size", package.installed_size},
               {"file_count", package.file_count}},
              fmt::format("{}: {} {}, {} in {}", packed.file, package.title(), package.arch,
                          size_text(packed.written.size), count_text(package.file_count, "file", "files")));
  return 0;
}

int run_publish(Session& session, const Arguments& arguments) {
  const operations::Published published = operations::publish(arguments.words()[0], session.progress());
  session.say({{"index", published.version},
               {"changed", published.changed},
               {"packages", published.packages},
               {"channels", published.channels}},
              fmt::format("{}: index {} {}, {} in {}", arguments.words()[0], published.version,
                          published.changed ? "written" : "is up to date",
                          count_text(published.packages, "package version", "package versions"),
                          published.channels.empty() ? "no channel" : join(published.channels, ", ")));
  return 0;
}

}  // namespace hambrel::cli
