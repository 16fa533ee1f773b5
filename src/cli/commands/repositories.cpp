// repo and refresh.
#include "operations/repositories.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/mirrors.h"
#include "cli/show/package.h"
#include "cli/terminal/table.h"
#include "operations/kept_list.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

using operations::CachedIndex;
using operations::RefreshResult;

Json to_json(const CachedIndex& index) {
  const operations::Repository& one = index.repository;
  Json object = {
      {"name", one.name},           {"url", shown_url(one.url)}, {"channels", one.channels},
      {"enabled", one.enabled},     {"rank", one.rank},          {"index", index.version},
      {"packages", index.packages}, {"fetched", index.fetched},  {"trust", one.accepts_unsigned ? "none" : "signed"}};
  if (index.root != 0) object["root"] = index.root;
  if (!index.problem.empty()) object["problem"] = index.problem;
  return object;
}

std::string verified_text(std::uint64_t root) {
  return root == 0 ? ", not verified" : fmt::format(", verified by root {}", root);
}

std::string index_text(const CachedIndex& index) {
  const std::string doubt = operations::doubt_of(index);
  return fmt::format("index {}, {}, {}{}", index.version, count_text(index.packages, "version", "versions"),
                     age_text(os::now(), index.fetched), doubt.empty() ? verified_text(index.root) : ", " + doubt);
}

std::string state_of(const CachedIndex& index) {
  if (!index.repository.problem.empty()) return index.repository.problem;
  if (!index.repository.enabled) return "disabled";
  return index.problem.empty() ? index_text(index) : index.problem;
}

int list(Session& session) {
  Rows rows(session);
  for (CachedIndex index : operations::repositories(session.root())) {
    const operations::Repository& one = index.repository;
    if (index.problem.empty()) index.problem = operations::trust_damage(session.root(), one.name);
    const bool odd = !index.problem.empty() || *operations::doubt_of(index) != 0;
    rows.add([&] { return to_json(index); }, {{one.name, Style::Name},
                                              {join(one.channels, ",")},
                                              {fmt::format("rank {}", one.rank)},
                                              {state_of(index), one.enabled && odd ? Style::Warn : Style::Plain},
                                              {printable(shown_url(one.url)), Style::Faint}});
  }
  rows.print("There are no repositories. Add one: hambrel repo add URL");
  return 0;
}

int changed(const Session& session, const std::string& name, const std::string& result) {
  session.say({{"repository", name}, {"result", result}}, fmt::format("{}: {}", name, result));
  return 0;
}

/// Digits in groups, as they are shown, or in one row.
std::string bare(std::string text) {
  std::erase_if(text, [](char c) { return c == ' ' || c == ':' || c == '\n' || c == '\t'; });
  return lower(text);
}

void show_root(const Session& session, const std::string& name, const operations::OfferedRoot& root) {
  const Screen& screen = session.screen();
  screen.line(fmt::format("Who signs for {}, as its root document {} says (good until {}):", name, root.version,
                          utc_text(root.expires).substr(0, 10)));
  Table table;
  for (const auto& one : root.roles)
    table.row({{one.name, Style::Name},
               {fmt::format("{} of {}", one.threshold, count_text(one.keys.size(), "key", "keys"))},
               {short_id(one.keys.front()) + (one.keys.size() > 1 ? " ..." : ""), Style::Faint}});
  table.print(screen);
  screen.line("The fingerprint of this document:");
  for (const std::string& half : halves_of(root.fingerprint_text))
    screen.line("  " + screen.paint(Style::Strong, half));
}

/// Only a fingerprint that was given, or an answer on a terminal, decides: --yes does not.
void require_trust(const Session& session, const Arguments& arguments, const std::string& name,
                   const operations::OfferedRoot& root) {
  if (const auto given = arguments.value("fingerprint")) {
    if (!Digest::from_hex(bare(*given)))
      throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a fingerprint", printable(*given)), {},
                  "it has 64 hexadecimal digits, with or without blanks between them");
    if (bare(*given) == root.fingerprint) return;
    throw Error(ErrorCode::Untrusted,
                fmt::format("the root document has the fingerprint {}, not the one given", root.fingerprint_text), name,
                "nothing was changed; ask the repository's maintainer, over another channel, which one is right");
  }
  if (session.json() || !can_ask())
    throw Error(
        ErrorCode::Declined,
        session.json() ? "--json never asks whether to trust" : "there is no terminal to ask on whether to trust it",
        name, "compare the fingerprint, then give it with --fingerprint");
  session.screen().line("Compare it with the one that the maintainer publishes elsewhere.");
  session.screen().line();
  if (!is_yes(session, "Trust it?")) throw Error(ErrorCode::Declined, "nothing was changed");
}

int trust_repository(Session& session, const Arguments& arguments) {
  const std::string& name = arguments.words()[1];
  const auto root = operations::offered_root(session.root(), operations::repository_named(session.root(), name));
  if (!session.json() && !session.quiet()) show_root(session, name, root);
  require_trust(session, arguments, name, root);
  operations::trust_root(session.root(), name, root);
  session.say({{"repository", name}, {"result", "trusted"}},
              fmt::format("{} is trusted from now on. Next: hambrel refresh {}", name, name));
  return 0;
}

Json to_json(const RefreshResult& result) {
  Json object = {{"repository", result.repository}, {"url", shown_url(result.url)}, {"changed", result.changed},
                 {"index", result.version},         {"packages", result.packages},  {"fetched", result.fetched}};
  if (result.root != 0) object["root"] = result.root;
  for (const NewsItem& one : result.news)
    object["news"].push_back({{"date", one.date}, {"title", one.title}, {"text", one.text}});
  if (result.problem)
    object["problem"] = {{"code", exit_code(result.problem->code())},
                         {"text", result.problem->problem()},
                         {"where", result.problem->where()},
                         {"hint", result.problem->hint()}};
  return object;
}

void add(Rows& rows, const RefreshResult& result) {
  const std::string index =
      result.version == 0 ? "no index"
                          : fmt::format("index {}, {}{}", result.version,
                                        count_text(result.packages, "version", "versions"), verified_text(result.root));
  const std::string failed =
      result.version == 0 ? "unusable: no index"
                          : fmt::format("the index fetched {} stays in use", age_text(os::now(), result.fetched));
  const auto told = [&](const char* state, Style style, const std::string& more) {
    rows.add([&] { return to_json(result); }, {{result.repository, Style::Name}, {state, style}, {more}});
  };
  if (result.problem) return told("failed", Style::Warn, failed);
  if (result.changed) return told("new", Style::Come, index);
  told("unchanged", Style::Plain, index);
}

void print_whats_new(const Screen& screen, const operations::WhatsNew& whats_new) {
  constexpr std::size_t kMost = 5;
  std::vector<std::string> parts;
  const auto add = [&](const std::vector<std::string>& all, const char* one, const char* several) {
    if (!all.empty())
      parts.push_back(fmt::format("{} ({})", count_text(all.size(), one, several), plan::some_of(all, kMost)));
  };
  add(whats_new.packages, "new package", "new packages");
  add(whats_new.newer, "newer version", "newer versions");
  add(whats_new.gone, "package is gone", "packages are gone");
  add(whats_new.recipes, "new recipe", "new recipes");
  add(whats_new.newer_recipes, "newer recipe", "newer recipes");
  if (!parts.empty()) screen.paragraph("Since the last refresh: " + join(parts, ", ") + ".", 0);
}

void print_news(const Screen& screen, const std::vector<RefreshResult>& results) {
  for (const RefreshResult& result : results)
    for (const NewsItem& one : result.news) {
      screen.line(fmt::format("News of {}, {}: {}", result.repository, one.date,
                              screen.paint(Style::Strong, printable(one.title))));
      if (!one.text.empty()) screen.paragraph(printable(one.text), 2);
    }
}

/// Known security problems one by one, also where nothing else is to be printed. Returns how many an upgrade fixes.
std::size_t print_problems(Session& session) {
  const Screen& screen = session.screen();
  const Universe& universe = session.root().universe();
  std::size_t fixed = 0;
  for (const auto& one : operations::known_problems(session.root())) {
    if (one.fixed_by) ++fixed;
    const std::string fix = one.fixed_by ? "-> " + std::string(universe.version(*one.fixed_by)) : "no fix is offered";
    std::vector<std::string> texts;
    for (const Advisory& advisory : one.advisories) texts.push_back(operations::text_of(advisory));
    screen.paragraph(fmt::format("{} {} {} {}: {}", screen.paint(Style::Warn, "security"), universe.name(one.installed),
                                 universe.version(one.installed), fix, printable(join(texts, "; "))),
                     2);
  }
  return fixed;
}

/// What came of a refresh. Returns the exit code.
int show_refreshed(Session& session, const std::vector<RefreshResult>& results,
                   const operations::WhatsNew& whats_new = {}) {
  if (!results.empty()) operations::KeptList::renew(session.root(), list_text);
  const Screen& screen = session.screen();
  int code = 0;
  Rows rows(session);
  for (const RefreshResult& result : results) {
    add(rows, result);
    if (result.problem) code = std::max(code, exit_code(result.problem->code()));
  }
  if (session.json()) return code;
  if (results.empty()) screen.line("No repository is enabled. Add one: hambrel repo add URL");
  if (!session.quiet()) rows.print();
  for (const RefreshResult& result : results) {
    if (!result.problem) continue;
    screen.note(fmt::format("{}: {}: {}", screen.paint_error(Style::Warn, result.repository), result.problem->where(),
                            result.problem->problem()));
    if (!result.problem->hint().empty()) screen.hint(result.problem->hint());
  }
  const bool untrusted = std::any_of(results.begin(), results.end(), [](const RefreshResult& result) {
    return result.problem && result.problem->code() == ErrorCode::Untrusted;
  });
  if (untrusted) screen.note("Installed packages are not affected; nothing that was fetched is used.");
  if (!session.quiet()) print_whats_new(screen, whats_new);
  const std::size_t fixed = results.empty() ? 0 : print_problems(session);
  if (session.quiet()) return code;
  print_news(screen, results);
  if (const std::size_t newer = results.empty() ? 0 : operations::count_newer(session.root()); newer > 0)
    screen.line(fmt::format("{} can be upgraded{}: hambrel list upgradable",
                            count_text(newer, "installed package", "installed packages"),
                            fixed == 0 ? "" : fmt::format(", {} of them for security", fixed)));
  return code;
}

/// What is to be added: `add URL|FILE [NAME]`, in either order.
operations::GivenRepository given_repository(const Arguments& arguments) {
  const auto is_place = [](const std::string& word) {
    return word.find("://") != std::string::npos || word.find('/') != std::string::npos || word.ends_with(".toml");
  };
  std::string place = arguments.words()[1], name = arguments.words().size() > 2 ? arguments.words()[2] : "";
  if (!is_place(place) && is_place(name)) std::swap(place, name);
  if (place.find("://") == std::string::npos && is_place(place)) {
    const std::string file = place.substr(place.rfind('/') + 1);
    if (name.empty()) name = file.substr(0, file.rfind(".toml"));
    for (const char* const option : {"channels", "rank"})
      if (arguments.has(option))
        throw Error(ErrorCode::Usage, fmt::format("--{} does not go with a file", option), {},
                    fmt::format("write `{}` into {}", option, printable(place)));
    return operations::repository_in(place, name);
  }
  if (name.empty()) name = operations::name_for(place);
  operations::GivenRepository given;
  given.repository.name = name;
  given.repository.url = place;
  if (const auto channels = arguments.value("channels")) {
    given.repository.channels.clear();
    for (const std::string_view channel : split(*channels, ',')) given.repository.channels.emplace_back(channel);
  }
  if (const auto rank = arguments.number("rank"))
    given.repository.rank = static_cast<std::uint32_t>(std::min<std::uint64_t>(*rank, UINT32_MAX));
  given.repository.accepts_unsigned = arguments.has("unsigned");
  return given;
}

/// The first refresh of what was added. Returns the exit code.
int refresh_added(Session& session, const Arguments& arguments, const std::string& name, Json document,
                  const std::string& sentence) {
  if (arguments.has("no-refresh")) {
    session.say(document, fmt::format("{}. Next: {}", sentence, session.copyable("hambrel refresh " + name)));
    return 0;
  }
  const auto results = operations::refresh(session.root(), {name});
  if (session.json()) {
    document["refresh"] = to_json(results.front());
    session.document(document);
    return results.front().problem ? exit_code(results.front().problem->code()) : 0;
  }
  session.say(document, sentence + ".");
  return show_refreshed(session, results);
}

int add(Session& session, const Arguments& arguments) {
  const operations::GivenRepository given = given_repository(arguments);
  const operations::Repository& repository = given.repository;
  const bool is_unsigned = arguments.has("unsigned");
  if (is_unsigned && arguments.has("fingerprint"))
    throw Error(ErrorCode::Usage, "--unsigned and --fingerprint exclude each other");
  if (repository.accepts_unsigned && !is_unsigned)
    throw Error(ErrorCode::Refused, "the file says that nobody has to sign: trust = \"none\"",
                printable(arguments.words()[1]), "if that is what you want, say so: --unsigned");
  const std::string what = fmt::format("Added {}, following {}", repository.name, join(repository.channels, ", "));
  Json document = {{"repository", repository.name}, {"result", "added"}};
  operations::require_addable(session.root(), repository);
  if (repository.accepts_unsigned) {
    operations::add_repository(session.root(), given);
    return refresh_added(session, arguments, repository.name, document,
                         what + ". What it offers is not signed: nobody vouches for it");
  }
  const auto root = operations::offered_root(session.root(), repository);
  if (!session.json() && !session.quiet()) show_root(session, repository.name, root);
  require_trust(session, arguments, repository.name, root);
  operations::add_repository(session.root(), given, root);
  document["fingerprint"] = root.fingerprint;
  return refresh_added(session, arguments, repository.name, document,
                       what + ". Its signatures are verified from now on");
}

/// What it leaves without a source is told.
int drop(Session& session, const std::string& name) {
  const std::vector<std::string> left = operations::only_from(session.root(), name);
  operations::drop_repository(session.root(), name);
  Json document = {{"repository", name}, {"result", "dropped"}, {"strays", left}};
  std::string sentence = fmt::format("{}: dropped", name);
  if (!left.empty())
    sentence += fmt::format(". {} no longer available from any repository: {}",
                            count_text(left.size(), "installed package is", "installed packages are"), first_of(left));
  session.say(document, sentence);
  return 0;
}

Json to_json(const operations::RepositoryFacts& facts) {
  Json object = to_json(facts.index), roles = Json::array();
  for (const auto& one : facts.roles)
    roles.push_back({{"role", one.name},
                     {"threshold", one.threshold},
                     {"keys", one.keys},
                     {"version", one.version},
                     {"expires", one.expires}});
  object["bytes"] = facts.bytes;
  object["offered"] = facts.offered;
  object["installed"] = facts.installed;
  object["fingerprint"] = bare(facts.fingerprint_text);
  object["trusted_root"] = facts.root;
  object["roles"] = std::move(roles);
  if (!facts.damage.empty()) object["problem"] = facts.damage;
  const operations::Repository& one = facts.index.repository;
  Json mirrors = Json::array();
  for (const std::string& url : one.urls()) mirrors.push_back(shown_url(url));
  object["mirrors"] = std::move(mirrors);
  Json spare = Json::array();
  for (const std::string& url : one.spare) spare.push_back(shown_url(url));
  object["spare"] = std::move(spare);
  Json failures = Json::array();
  for (const auto& failure : facts.failures)
    failures.push_back({{"url", failure.url}, {"problem", failure.problem}, {"time", failure.time}});
  object["failures"] = std::move(failures);
  return object;
}

void show_roles(const Session& session, const operations::RepositoryFacts& facts) {
  Table table;
  for (const auto& one : facts.roles) {
    const bool late = one.expires != 0 && one.expires <= os::now();
    const std::string until = one.expires == 0 ? "" : utc_text(one.expires).substr(0, 10);
    table.row({{one.name, Style::Name},
               {fmt::format("{} of {}", one.threshold, count_text(one.keys.size(), "key", "keys"))},
               {one.version == 0 ? "not seen yet" : fmt::format("version {}", one.version)},
               {one.expires == 0 ? "" : (late ? "expired " : "good until ") + until, late ? Style::Warn : Style::Plain},
               {short_id(one.keys.front()) + (one.keys.size() > 1 ? " ..." : ""), Style::Faint}});
  }
  table.print(session.screen());
}

/// How its servers are reached. Nothing of what is secret.
void show_access(const Session& session, const operations::RepositoryFacts& facts) {
  const Screen& screen = session.screen();
  const operations::Repository& one = facts.index.repository;
  const auto failure_of = [&](const std::string& url) {
    for (const auto& failure : facts.failures)
      if (failure.url == shown_url(url))
        return fmt::format("  failed {}: {}", age_text(os::now(), failure.time), printable(failure.problem));
    return std::string();
  };
  const std::vector<std::string> urls = one.urls();
  for (std::size_t i = 0; i < urls.size(); ++i) {
    const std::string failure = failure_of(urls[i]);
    if (urls.size() > 1 || !failure.empty()) screen.field(i == 0 ? "mirrors" : "", printable(shown_url(urls[i])));
    if (!failure.empty()) screen.field("", failure);
  }
  if (!one.spare.empty())
    screen.field("spare",
                 fmt::format("{}; `{}` compares them", count_text(one.spare.size(), "more mirror", "more mirrors"),
                             session.copyable("hambrel repo rank " + one.name)));
  const auto& access = one.access;
  if (!access.proxy.empty()) screen.field("proxy", printable(access.proxy));
  if (access.rate != 0) screen.field("rate", fmt::format("{} a second at most", size_text(access.rate)));
  if (access.credentials.any() || !access.unread.empty())
    screen.field("login", fmt::format("/etc/hambrel/repos/{}.credentials", one.name));
}

int show_repository(Session& session, const std::string& name) {
  const auto facts = operations::facts_of(session.root(), name);
  if (session.json()) {
    session.document(to_json(facts));
    return 0;
  }
  const Screen& screen = session.screen();
  const operations::Repository& one = facts.index.repository;
  screen.line(fmt::format("{}  {}", screen.paint(Style::Strong, one.name), printable(shown_url(one.url))));
  screen.field("state", state_of(facts.index));
  screen.field("follows", fmt::format("{}, rank {}", join(one.channels, ", "), one.rank));
  if (facts.index.version != 0)
    screen.field("offers", fmt::format("{}, of which {} installed; its index takes {}",
                                       count_text(facts.offered, "package", "packages"),
                                       count_text(facts.installed, "is", "are"), size_text(facts.bytes)));
  show_access(session, facts);
  if (!facts.damage.empty()) {
    screen.field("trust", facts.damage);
    screen.hint(session.copyable("hambrel repo trust " + one.name) + " starts over");
    return 0;
  }
  if (facts.root == 0) {
    screen.field("trust", one.accepts_unsigned ? "none: nobody vouches for what it offers"
                                               : "none yet: `" + session.copyable("hambrel repo trust " + one.name) +
                                                     "` shows its keys and asks");
    return 0;
  }
  screen.field("trust", fmt::format("root {}; the first had the fingerprint", facts.root));
  for (const std::string& half : halves_of(facts.fingerprint_text)) screen.field("", half);
  screen.line();
  show_roles(session, facts);
  return 0;
}

}  // namespace

int run_repo(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string& what = words[0];
  const auto require_words = [&](std::size_t count, const char* usage) {
    if (words.size() != count)
      throw Error(ErrorCode::Usage, fmt::format("usage: hambrel repo {}", usage), {},
                  "`hambrel help repo` shows examples");
  };
  if (what == "list") {
    require_words(1, "list");
    return list(session);
  }
  if (what == "add") {
    if (words.size() != 2) require_words(3, "add URL|FILE [NAME]");
    return add(session, arguments);
  }
  if (what == "drop") {
    require_words(2, "drop NAME");
    return drop(session, words[1]);
  }
  if (what == "enable" || what == "disable") {
    require_words(2, "enable NAME");
    operations::set_enabled(session.root(), words[1], what == "enable");
    return changed(session, words[1], what + "d");
  }
  if (what == "show") {
    require_words(2, "show NAME");
    return show_repository(session, words[1]);
  }
  if (what == "trust") {
    require_words(2, "trust NAME");
    return trust_repository(session, arguments);
  }
  if (what == "rank") {
    require_words(2, "rank NAME");
    return rank_mirrors(session, arguments);
  }
  const std::string near = did_you_mean(what, {"list", "show", "add", "drop", "enable", "disable", "rank", "trust"});
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel repo {}`", printable(what)), {},
              near.empty() ? "use list, show, add, drop, enable, disable, rank, trust" : near);
}

int run_refresh(Session& session, const Arguments& arguments) {
  operations::WhatsNew whats_new;
  const auto results = operations::refresh(session.root(), arguments.words(), &whats_new);
  return show_refreshed(session, results, whats_new);
}

}  // namespace hambrel::cli
