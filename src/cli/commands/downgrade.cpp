// downgrade: which older versions can be had and from where, one of them picked, and whether it is to stay.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/plan.h"
#include "os/host.h"
#include "repo/download.h"

namespace hambrel::cli {

namespace {

/// The one installed package that the spec names.
PackageId installed_one(Session& session, const Spec& spec) {
  Spec name = spec;
  if (name.kind == Spec::Kind::Name) name.constraint.op = Operator::Any, name.text = name.constraint.name;
  const solve::Names names = operations::select_installed(session.root(), name);
  if (names.size() > 1)
    throw Error(ErrorCode::Usage, fmt::format("{} stands for {} packages", printable(spec.text), names.size()), {},
                "a downgrade is of one package: name it");
  const Universe& universe = session.universe();
  for (const PackageId id : universe.installed())
    if (names.contains(universe.name(id)) && (session.arch().empty() || universe.architecture(id) == session.arch()))
      return id;
  throw Error(ErrorCode::Refused, fmt::format("{} is not installed for {}", printable(spec.text), session.arch()), {},
              "`hambrel list` shows what is installed");
}

struct Choice {
  PackageId id{};
  std::string where;      // "attic", "cache", or the repositories
  ByteCount fetch = 0;    // bytes; 0: at hand
  std::int64_t here = 0;  // when it was installed here last, seconds; 0: never
};

/// Older versions of an installed package, newest first.
std::vector<Choice> choices_for(Session& session, PackageId installed) {
  const Universe& universe = session.universe();
  std::map<std::string, std::int64_t> times;  // by version
  for (const state::Replaced& one : session.state()->replaced())
    if (one.package.package.name == universe.name(installed))
      times.emplace(one.package.package.version.text(), one.package.time);
  std::vector<Choice> choices;
  for (const PackageId id : universe.slot(installed)) {
    const Candidate& one = universe[id];
    if (one.offers.empty() || !(one.package.version < universe.package(installed).version)) continue;
    Choice choice{id, one.offers.front().title(), one.offers.front().size, 0};
    if (session.root().kept(id) != nullptr)
      choice.fetch = 0;
    else if (repo::in_cache(session.files(), one.package, one.offers.front()))
      choice.where = "cache", choice.fetch = 0;
    for (const Offer& offer : one.offers)
      if (offer.title() != one.offers.front().title()) choice.where += ", " + offer.title();
    if (const auto time = times.find(one.package.version.text()); time != times.end()) choice.here = time->second;
    choices.push_back(std::move(choice));
  }
  return choices;
}

void show(Session& session, PackageId installed, const std::vector<Choice>& choices) {
  const Universe& universe = session.universe();
  const Screen& screen = session.screen();
  if (session.json()) {
    Json list = Json::array();
    for (const Choice& one : choices) {
      Json object = {{"version", universe.version(one.id)},
                     {"where", one.where},
                     {"download", one.fetch},
                     {"installed_size", universe.installed_size(one.id)}};
      if (one.here != 0) object["installed_before"] = utc_text(one.here);
      list.push_back(std::move(object));
    }
    return screen.line(canonical({{"name", universe.name(installed)},
                                  {"installed", universe.version(installed)},
                                  {"choices", std::move(list)}}));
  }
  screen.line(fmt::format("{} is installed in version {}. Older versions to be had:",
                          screen.paint(Style::Name, std::string(universe.name(installed))),
                          universe.version(installed)));
  screen.line();
  Table table;
  for (std::size_t i = 0; i < choices.size(); ++i) {
    const Choice& one = choices[i];
    table.row({{std::to_string(i + 1), Style::Strong, true},
               {std::string(universe.version(one.id)), Style::Name},
               {one.where},
               {one.here == 0 ? "was never installed here" : "installed here " + time_text(one.here), Style::Faint},
               {one.fetch == 0 ? "nothing to fetch" : size_text(one.fetch) + " to fetch", Style::Plain, true}});
  }
  table.print(screen);
  screen.line();
}

/// Which one: the only one, the one asked for on the terminal, or with --yes the newest. Nothing: it was shown only.
std::optional<PackageId> pick(Session& session, const Arguments& arguments, PackageId installed,
                              const std::vector<Choice>& choices) {
  const bool taken = arguments.has("yes");
  if (!session.json() || !taken) show(session, installed, choices);
  if (taken) return choices.front().id;
  if (arguments.has("dry-run")) return std::nullopt;
  require_consent_possible(session, arguments);
  const std::string answer = ask(session.screen(), "Which one?", "its number, or no").value_or("");
  const auto number = parse_number(answer);
  if (!number || *number == 0 || *number > choices.size())
    throw Error(ErrorCode::Declined, "no version was chosen; nothing was changed");
  session.screen().line();
  return choices[*number - 1].id;
}

/// --hold, --no-hold, or asked for.
std::optional<Hold> hold_for(Session& session, const Arguments& arguments, PackageId installed, PackageId to) {
  Hold hold{os::now(), 0, arguments.value("reason").value_or(""), os::user_name()};
  if (arguments.has("hold")) return hold;
  if (arguments.has("no-hold") || arguments.has("yes") || arguments.has("dry-run")) return std::nullopt;
  require_consent_possible(session, arguments);
  const Universe& universe = session.universe();
  const std::string answer = lower(ask(session.screen(),
                                       fmt::format("Hold it at {}, so that no upgrade brings {} back?",
                                                   universe.version(to), universe.version(installed)),
                                       "yes or no")
                                       .value_or(""));
  if (answer != "yes" && answer != "y") return std::nullopt;
  if (hold.reason.empty())
    hold.reason = ask(session.screen(), "For which reason?", "a few words, or nothing").value_or("");
  session.screen().line();
  return hold;
}

}  // namespace

int run_downgrade(Session& session, const Arguments& arguments) {
  const Spec spec = parse_spec(arguments.words()[0]);
  if (spec.kind != Spec::Kind::Name && spec.kind != Spec::Kind::Path)
    throw Error(ErrorCode::Usage,
                fmt::format("a downgrade is of one installed package, not of {}", printable(spec.text)), {},
                "for example hambrel downgrade lampdesk, or lampdesk=5.4");
  if (arguments.has("hold") && arguments.has("no-hold"))
    throw Error(ErrorCode::Usage, "--hold and --no-hold exclude each other", {}, "give one of them");
  begin(session, arguments);
  session.root().add_kept();
  const PackageId installed = installed_one(session, spec);
  const Universe& universe = session.universe();
  auto choices = choices_for(session, installed);
  if (choices.empty())
    throw Error(ErrorCode::Refused,
                fmt::format("no older version of {} than {} is to be had", universe.name(installed),
                            universe.version(installed)),
                {}, "neither the attic nor the cache holds one, and no enabled repository offers one");
  const bool named = spec.kind == Spec::Kind::Name && spec.constraint.op != Operator::Any;
  std::vector<Choice> meant = choices;
  if (named)
    std::erase_if(meant, [&](const Choice& one) {
      return !version_allowed(spec.constraint.op, spec.constraint.version.text(), universe.version(one.id));
    });
  if (meant.empty()) {
    std::vector<std::string> there;
    for (const Choice& one : choices) there.push_back(fmt::format("{} ({})", universe.version(one.id), one.where));
    throw Error(ErrorCode::Refused,
                fmt::format("no version of {} older than {} is {}", universe.name(installed),
                            universe.version(installed), spec.constraint.text()),
                {}, "there are: " + join(there, ", "));
  }
  const auto to = named ? std::optional(meant.front().id) : pick(session, arguments, installed, meant);
  if (!to) return 0;
  operations::ChangeRequest request = change_request(session, arguments, "downgrade");
  request.hold = hold_for(session, arguments, installed, *to);
  request.solve.install.push_back({fmt::format("{}={}", universe.name(*to), universe.version(*to)), {*to}});
  return carry_out(session, arguments, std::move(request));
}

}  // namespace hambrel::cli
