// pack and publish.
#include <fmt/format.h>

#include "base/text.h"
#include "build/collection.h"
#include "cli/show/packed.h"
#include "cli/terminal/secret.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

int draft(Session& session, const Arguments& arguments, const std::string& from) {
  for (const char* const other : {"level", "key"})
    if (arguments.has(other)) throw Error(ErrorCode::Usage, fmt::format("--{} does not go with --from", other));
  const build::Draft made = build::make_draft(session.root(), from, arguments.value("output").value_or(""));
  show(session, made);
  return 0;
}

}  // namespace

int run_pack(Session& session, const Arguments& arguments) {
  operations::PackRequest request;
  const auto installed = arguments.value("installed"), from = arguments.value("from");
  if (arguments.words().size() + (installed ? 1 : 0) + (from ? 1 : 0) != 1)
    throw Error(ErrorCode::Usage, "pack needs a directory, or --installed NAME, or --from TREE", {},
                "for example: hambrel pack lampdesk/, or hambrel pack --installed lampdesk");
  if (from) return draft(session, arguments, *from);
  if (!installed) request.directory = arguments.words()[0];
  request.output = arguments.value("output").value_or("");
  const std::string level_text = arguments.value("level").value_or("9");
  const auto level = parse_number(level_text);
  if (!level || *level < 1 || *level > 19)
    throw Error(ErrorCode::Usage, fmt::format("--level {}: must be a number from 1 to 19", printable(level_text)));
  request.level = static_cast<int>(*level);
  request.keys = arguments.values("key");
  request.passphrase = [&](const std::string& file) { return passphrase_of(session.screen(), file); };
  std::optional<operations::Repacked> again;
  if (installed) again = operations::repack(session.root(), *installed, request, session.progress());
  const operations::Packed packed = again ? again->packed : operations::pack(request, session.progress());
  show(session, packed, again ? &*again : nullptr);
  return 0;
}

namespace {

constexpr int kWaits = 12;  // the exit code where signatures are missing

}  // namespace

int run_publish(Session& session, const Arguments& arguments) {
  operations::PublishRequest request;
  request.directory = arguments.words()[0];
  request.keys = arguments.value("keys").value_or("");
  request.key_files = arguments.values("key");
  request.init = arguments.has("init");
  request.rotate = arguments.values("rotate");
  request.thresholds = arguments.values("threshold");
  request.expires = arguments.values("expires");
  request.renew = arguments.has("renew");
  request.finish = arguments.has("finish");
  request.subset = arguments.values("subset");
  request.with = arguments.values("with");
  request.target = arguments.value("to").value_or("");
  if (request.subset.empty() != request.target.empty())
    throw Error(ErrorCode::Usage, "--subset and --to go together", {},
                "for example: hambrel publish /srv/skerry-base --subset lampdesk --to /media/stick");
  const auto& words = arguments.words();
  request.promote = arguments.value("promote").value_or("");
  if (words.size() != (request.promote.empty() ? 1U : 3U))
    throw Error(ErrorCode::Usage, "usage: hambrel publish DIR, or hambrel publish DIR --promote SPEC FROM TO", {},
                "for example: hambrel publish /srv/skerry-base --promote lampdesk beta stable");
  if (!request.promote.empty()) {
    if (request.finish || arguments.has("renew") || !request.subset.empty())
      throw Error(ErrorCode::Usage, "--promote goes with neither --finish, --renew nor --subset");
    request.from = words[1];
    request.to = words[2];
  }
  request.passphrase = [&](const std::string& file) { return passphrase_of(session.screen(), file); };
  request.list_recipes = [](os::FileSystem& repository) {
    return build::list_recipes(repository, os::machine_architecture());
  };
  const operations::Published published = operations::publish(request, session.progress());
  if (!request.subset.empty()) request.directory = request.target;
  show(session, request, published);
  return published.missing.empty() ? 0 : kWaits;
}

}  // namespace hambrel::cli
