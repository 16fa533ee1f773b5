// activate: the switch to what was prepared.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "cli/show/prepared.h"
#include "operations/keeping.h"

namespace hambrel::cli {

namespace {

int nothing(const Session& session) {
  if (session.json())
    session.screen().line(canonical({{"result", "nothing to do"}}));
  else if (!session.quiet())
    session.screen().line("Nothing is prepared.");
  return 0;
}

int done(const Session& session, const state::Prepared& one, const std::string& result, const std::string& text) {
  if (session.json())
    session.screen().line(canonical({{"prepared", to_json(one)}, {"result", result}}));
  else if (!session.quiet())
    session.screen().line(text);
  return 0;
}

int show(const Session& session, const state::Prepared& one) {
  if (session.json()) return done(session, one, "dry run", "");
  print_prepared(session, one);
  return 0;
}

int switch_to(Session& session, const state::Prepared& one) {
  const os::InterruptGuard guard;
  const state::TxnId id = operations::activate(session.changed(), one, [&] { return guard.asked(); });
  if (session.json()) {
    session.screen().line(canonical({{"prepared", to_json(one)}, {"result", "done"}, {"transaction", number(id)}}));
  } else if (!session.quiet()) {
    session.screen().line(fmt::format("{}: {}, as transaction {}; `{}` takes it back.",
                                      session.screen().paint(Style::Strong, "Activated"), prepared_text(one),
                                      number(id), session.copyable(fmt::format("hambrel undo {}", number(id)))));
  }
  return 0;
}

}  // namespace

int run_activate(Session& session, const Arguments& arguments) {
  const bool discard = arguments.has("discard"), put_off = arguments.has("at-boot"), booting = arguments.has("booting");
  if (discard + put_off + booting + arguments.has("dry-run") > 1)
    throw Error(ErrorCode::Usage, "these options exclude each other", {},
                "one of --discard, --at-boot, --booting and --dry-run, or none");
  if (arguments.has("dry-run") || session.state() == nullptr) {
    const auto one = operations::prepared(session.root());
    return one ? show(session, *one) : nothing(session);
  }
  auto& root = session.change(arguments);
  const auto one = operations::prepared(root);
  if (!one || (booting && !one->at_boot)) return booting ? 0 : nothing(session);
  if (discard) {
    operations::discard(root, *one);
    return done(session, *one, "discarded",
                fmt::format("Dropped: {}; {} are free again.", prepared_text(*one), size_text(one->staged)));
  }
  if (put_off) {
    operations::activate_at_boot(root, *one, true);
    return done(session, *one, "put off", fmt::format("At the next start: {}.", prepared_text(*one)));
  }
  if (booting) operations::activate_at_boot(root, *one, false);  // once: a start must not fail for it again and again
  return switch_to(session, *one);
}

}  // namespace hambrel::cli
