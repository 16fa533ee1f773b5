#include "cli/show/repository.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/terminal/table.h"
#include "operations/whats_new.h"
#include "os/host.h"
#include "plan/plan.h"

namespace hambrel::cli {

using operations::CachedIndex;
using operations::MirrorMeasure;
using operations::RefreshResult;
using operations::Spread;

std::string bare(std::string text) {
  std::erase_if(text, [](char c) { return c == ' ' || c == ':' || c == '\n' || c == '\t'; });
  return lower(text);
}

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

namespace {

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

}  // namespace

void show(const Session& session, const std::vector<CachedIndex>& indexes) {
  Rows rows(session);
  for (const CachedIndex& index : indexes) {
    const operations::Repository& one = index.repository;
    const bool odd = !index.problem.empty() || *operations::doubt_of(index) != 0;
    rows.add([&] { return to_json(index); }, {{one.name, Style::Name},
                                              {join(one.channels, ",")},
                                              {fmt::format("rank {}", one.rank)},
                                              {state_of(index), one.enabled && odd ? Style::Warn : Style::Plain},
                                              {printable(shown_url(one.url)), Style::Faint}});
  }
  rows.print("There are no repositories. Add one: hambrel repo add URL");
}

void show(const Session& session, const std::string& name, const operations::OfferedRoot& root) {
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

namespace {

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

}  // namespace

void show(Session& session, const std::vector<RefreshResult>& results, const operations::WhatsNew& whats_new) {
  const Screen& screen = session.screen();
  Rows rows(session);
  for (const RefreshResult& result : results) add(rows, result);
  if (session.json()) return;
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
  if (session.quiet()) return;
  print_news(screen, results);
  if (const std::size_t newer = results.empty() ? 0 : operations::count_newer(session.root()); newer > 0)
    screen.line(fmt::format("{} can be upgraded{}: hambrel list upgradable",
                            count_text(newer, "installed package", "installed packages"),
                            fixed == 0 ? "" : fmt::format(", {} of them for security", fixed)));
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

namespace {

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

}  // namespace

void show(const Session& session, const operations::RepositoryFacts& facts) {
  if (session.json()) return session.document(to_json(facts));
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
    return screen.hint(session.copyable("hambrel repo trust " + one.name) + " starts over");
  }
  if (facts.root == 0) {
    screen.field("trust", one.accepts_unsigned ? "none: nobody vouches for what it offers"
                                               : "none yet: `" + session.copyable("hambrel repo trust " + one.name) +
                                                     "` shows its keys and asks");
    return;
  }
  screen.field("trust", fmt::format("root {}; the first had the fingerprint", facts.root));
  for (const std::string& half : halves_of(facts.fingerprint_text)) screen.field("", half);
  screen.line();
  show_roles(session, facts);
}

namespace {

Json spread_json(const Spread& spread) {
  return {{"median", spread.median}, {"least", spread.least}, {"greatest", spread.greatest}};
}

}  // namespace

Json to_json(const MirrorMeasure& one) {
  Json object = {{"url", shown_url(one.url)}, {"in_use", one.in_use}, {"behind", one.behind}};
  if (!one.problem.empty()) object["problem"] = one.problem;
  if (one.milliseconds.is_known()) object["milliseconds"] = spread_json(one.milliseconds);
  if (one.rate.is_known()) object["bytes_per_second"] = spread_json(one.rate);
  return object;
}

namespace {

std::string rate_text(double bytes) { return size_text(static_cast<ByteCount>(bytes)) + "/s"; }

}  // namespace

void add(Rows& rows, const MirrorMeasure& one, std::size_t number) {
  std::string state = one.in_use ? "in use" : "spare";
  if (one.behind > 0) state = fmt::format("{} behind", count_text(one.behind, "update", "updates"));
  if (!one.problem.empty()) state = "unusable";
  const Spread& wait = one.milliseconds;
  const Spread& rate = one.rate;
  const std::string waits = wait.is_known() ? fmt::format("{:.1f} to {:.1f}", wait.least, wait.greatest) : "";
  const std::string rates =
      rate.is_known() ? fmt::format("{} to {}", rate_text(rate.least), rate_text(rate.greatest)) : "";
  // the URLs, by which mirrors are told apart, are never cut; how much the measurements differ is left out first
  rows.add([&] { return to_json(one); },
           {{one.is_good() ? std::to_string(number) : "", Style::Strong, true},
            {wait.is_known() ? fmt::format("{:.1f} ms", wait.median) : "", Style::Plain, true},
            {waits, Style::Faint, false, false, true},
            {rate.is_known() ? rate_text(rate.median) : "", Style::Plain, true},
            {rates, Style::Faint, false, false, true},
            {state, one.is_good() ? Style::Plain : Style::Warn, false, true},
            {printable(shown_url(one.url)), Style::Name, false, true}});
}

}  // namespace hambrel::cli
