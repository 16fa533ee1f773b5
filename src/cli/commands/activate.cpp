// activate: the switch to what was prepared.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/outcome.h"
#include "cli/show/prepared.h"
#include "os/interrupt.h"

namespace hambrel::cli {

namespace {

using operations::PreparedChange;

int nothing(const Session& session) {
  session.say({{"result", "nothing to do"}}, "Nothing is prepared.");
  return 0;
}

int done(const Session& session, const PreparedChange& one, const char* result, const std::string& text) {
  session.say({{"prepared", to_json(one)}, {"result", result}}, text);
  return 0;
}

int only_show(const Session& session, const PreparedChange& one) {
  if (session.json()) return done(session, one, "dry run", "");
  print(session, one);
  return 0;
}

int switch_to(Session& session, const PreparedChange& one, bool booting) {
  const os::InterruptGuard guard;
  const auto outcome = operations::activate(session.changed(), one, booting, [&] { return guard.asked(); });
  const auto undone = undone_where_services_failed(session, outcome);
  const auto id = number(*outcome.transaction);
  Json document = {{"prepared", to_json(one)},
                   {"result", undone ? "undone" : "done"},
                   {"transaction", id},
                   {"services", services_json(outcome)}};
  put_left(document, outcome);
  if (undone) document["undone_by"] = number(*undone->transaction);
  const std::string next = undone
                               ? fmt::format("It was undone as transaction {}.", number(*undone->transaction))
                               : fmt::format("To undo it: `{}`", session.copyable(fmt::format("hambrel undo {}", id)));
  session.say(document,
              fmt::format("{}: {}, as transaction {}. {}{}{}", session.screen().paint(Style::Strong, "Activated"),
                          text_of(one), id, next, services_text(session, outcome),
                          undone ? services_text(session, *undone) : left_text(session, outcome)));
  return exit_code_of(outcome, undone.has_value());
}

}  // namespace

int run_activate(Session& session, const Arguments& arguments) {
  const bool discard = arguments.has("discard"), put_off = arguments.has("at-boot"), booting = arguments.has("booting");
  if (discard + put_off + booting + arguments.has("dry-run") > 1)
    throw Error(ErrorCode::Usage, "these options cannot be combined", {},
                "give one of --discard, --at-boot, --booting and --dry-run, or none");
  if (arguments.has("dry-run") || session.root().is_new()) {
    const auto one = operations::prepared(session.root());
    return one ? only_show(session, *one) : nothing(session);
  }
  auto& root = session.change(arguments);
  const auto one = operations::prepared(root);
  if (!one || (booting && !one->account.at_boot)) return booting ? 0 : nothing(session);
  if (discard) {
    operations::discard(root, *one);
    return done(session, *one, "discarded",
                fmt::format("Dropped: {}; {} freed.", text_of(*one), size_text(one->account.staged)));
  }
  if (put_off) {
    operations::activate_at_boot(root, *one, true);
    return done(session, *one, "put off", fmt::format("At the next start: {}.", text_of(*one)));
  }
  if (booting) operations::activate_at_boot(root, *one, false);  // once: a start must not fail for it again and again
  return switch_to(session, *one, booting);
}

}  // namespace hambrel::cli
