// downgrade: which older versions can be had and from where, one of them picked, and whether it is to stay.
#include "operations/downgrading.h"

#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/older_versions.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

using operations::OlderVersions;

/// Which one: the only one, the one asked for on the terminal, or with --yes the newest. Nothing: it was shown only.
std::optional<PackageId> pick(Session& session, const Arguments& arguments, const OlderVersions& older) {
  if (older.named) return older.all.front().id;
  const bool taken = arguments.has("yes");
  if (!session.json() || !taken) show(session, older);
  if (taken) return older.all.front().id;
  if (arguments.has("dry-run")) return std::nullopt;
  require_consent_possible(session, arguments);
  const auto number = parse_number(ask(session.screen(), "Which one?", "its number, or no").value_or(""));
  if (!number || *number == 0 || *number > older.all.size())
    throw Error(ErrorCode::Declined, "no version was chosen; nothing was changed");
  session.screen().line();
  return older.all[*number - 1].id;
}

/// --hold, --no-hold, or asked for.
std::optional<Hold> hold_for(Session& session, const Arguments& arguments, PackageId installed, PackageId to) {
  Hold hold{os::now(), 0, arguments.value("reason").value_or(""), os::user_name()};
  if (arguments.has("hold")) return hold;
  if (arguments.has("no-hold") || arguments.has("yes") || arguments.has("dry-run")) return std::nullopt;
  require_consent_possible(session, arguments);
  const Universe& universe = session.universe();
  if (!is_yes(session, fmt::format("Hold it at {}, so that upgrades do not bring {} back?", universe.version(to),
                                   universe.version(installed))))
    return std::nullopt;
  if (hold.reason.empty()) hold.reason = ask(session.screen(), "Why?", "a few words, or nothing").value_or("");
  session.screen().line();
  return hold;
}

}  // namespace

int run_downgrade(Session& session, const Arguments& arguments) {
  const Spec spec = parse_spec(arguments.words()[0]);
  if (arguments.has("hold") && arguments.has("no-hold"))
    throw Error(ErrorCode::Usage, "--hold and --no-hold cannot be combined", {}, "give one of them");
  begin(session, arguments);
  const OlderVersions older = operations::older_versions(session.root(), spec);
  const auto to = pick(session, arguments, older);
  if (!to) return 0;
  const auto hold = hold_for(session, arguments, older.installed, *to);
  return carry_out(
      session, arguments,
      operations::downgrade_to(session.root(), *to, change_request(session, arguments, "downgrade"), hold));
}

}  // namespace hambrel::cli
