// pack and publish.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "cli/terminal/secret.h"
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
  operations::PublishRequest request;
  request.directory = arguments.words()[0];
  request.keys = arguments.value("keys").value_or("");
  request.init = arguments.has("init");
  request.renew = arguments.has("renew");
  request.passphrase = [&](const std::string& file) { return passphrase_of(session.screen(), file); };
  const operations::Published published = operations::publish(request, session.progress());
  session.say(
      {{"index", published.version},
       {"changed", published.changed},
       {"renewed", published.renewed},
       {"packages", published.packages},
       {"channels", published.channels},
       {"root", published.root == 0 ? Json() : Json(published.root)},
       {"fingerprint", published.root == 0 ? Json() : Json(published.fingerprint)}},
      fmt::format("{}: index {} {}, {} in {}; {}", request.directory, published.version,
                  published.changed   ? "written"
                  : published.renewed ? "is up to date, its timestamp is renewed"
                                      : "is up to date",
                  count_text(published.packages, "package version", "package versions"),
                  published.channels.empty() ? "no channel" : join(published.channels, ", "),
                  published.root == 0 ? "not signed" : fmt::format("signed by root {}", published.root)) +
          (request.init ? fmt::format("\nFingerprint, for those who are to trust it:\n  {}", published.fingerprint_text)
                        : ""));
  return 0;
}

}  // namespace hambrel::cli
