// list: packages by condition, in any order, and what they take on the disk.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <iterator>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/listing.h"
#include "cli/show/package.h"
#include "model/search.h"
#include "operations/leftovers.h"
#include "plan/freed.h"
#include "repo/cache.h"
#include "solve/solver.h"

namespace hambrel::cli {

namespace {

struct Condition {
  std::string kind, value;
  bool negated = false;
  ByteCount bytes = 0;  // of size> and size<
};

/// "300", "300K", "1.5M", "2G": bytes, in powers of 1024.
std::optional<ByteCount> parse_size(std::string_view text) {
  double unit = 1;
  if (!text.empty())
    if (const auto power = std::string_view("KMGT").find(static_cast<char>(std::toupper(text.back())));
        power != std::string_view::npos) {
      unit = std::pow(1024.0, static_cast<double>(power + 1));
      text.remove_suffix(1);
    }
  double value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc() || end != text.data() + text.size() || text.empty() || !(value >= 0) ||
      value * unit > 1e18)
    return std::nullopt;
  return static_cast<ByteCount>(value * unit);
}

Condition parse_condition(std::string_view text) {
  static const std::vector<std::string> plain{"installed", "available", "upgradable", "wanted",
                                              "pulled-in", "unneeded",  "held",       "stray"};
  static const std::vector<std::string> with_value{"name", "repo", "channel", "arch"};
  Condition condition;
  std::string_view rest = text;
  while (rest.starts_with("not:")) condition.negated = !condition.negated, rest.remove_prefix(4);
  if (rest.starts_with("size>") || rest.starts_with("size<")) {
    condition.kind = rest.substr(0, 5);
    const auto bytes = parse_size(rest.substr(5));
    if (!bytes)
      throw Error(ErrorCode::Usage, fmt::format("{}: a size was expected", printable(text)), {},
                  "for example 'size>500K' or 'size>1.5M'");
    condition.bytes = *bytes;
    return condition;
  }
  if (const auto colon = rest.find(':'); colon != std::string_view::npos) {
    condition.kind = rest.substr(0, colon);
    condition.value = rest.substr(colon + 1);
    if (std::find(with_value.begin(), with_value.end(), condition.kind) != with_value.end() && !condition.value.empty())
      return condition;
  } else {
    condition.kind = rest;
    if (std::find(plain.begin(), plain.end(), condition.kind) != plain.end()) return condition;
  }
  const std::string near = did_you_mean(condition.kind, plain);
  throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a condition of list", printable(text)), {},
              near.empty() ? "there are: installed available upgradable wanted pulled-in unneeded held stray shelved "
                             "leftover name:GLOB repo:NAME channel:NAME arch:NAME 'size>SIZE' 'size<SIZE' "
                             "not:CONDITION"
                           : near);
}

class Conditions {
 public:
  Conditions(const Universe& universe, const std::vector<std::string>& words) : universe_(universe) {
    for (const std::string& word : words) all_.push_back(parse_condition(word));
    if (all_.empty()) all_.push_back({"installed", "", false});
    if (std::any_of(all_.begin(), all_.end(), [](const Condition& one) { return one.kind == "unneeded"; })) {
      for (const PackageId id : solve::unneeded_of(universe, universe.installed())) unneeded_.insert(id);
    }
    const bool offers = std::any_of(all_.begin(), all_.end(), [](const Condition& one) {
      return !one.negated && (one.kind == "available" || one.kind == "repo" || one.kind == "channel");
    });
    everything_ = offers || std::any_of(all_.begin(), all_.end(),
                                        [](const Condition& one) { return one.kind == "installed" && one.negated; });
    const bool about_installed = std::any_of(all_.begin(), all_.end(), [](const Condition& one) {
      return one.kind != "name" && one.kind != "repo" && one.kind != "channel" && one.kind != "arch";
    });
    everything_ = everything_ || !about_installed;
    about_size_ = std::any_of(all_.begin(), all_.end(), [](const Condition& one) { return one.bytes > 0; });
    about_holds_ =
        std::any_of(all_.begin(), all_.end(), [](const Condition& one) { return one.kind == "held" && !one.negated; });
  }

  /// What could be listed at all, in the order of lists: installed ones, and where they are asked for too, the newest
  /// of each name that is on offer.
  std::vector<PackageId> candidates() const {
    if (!everything_) return universe_.installed();
    std::vector<PackageId> ids;
    for (const Condition& one : all_) {  // a plain start of the name saves looking at all others
      if (one.kind != "name" || one.negated) continue;
      const std::string start = one.value.substr(0, one.value.find_first_of("*?"));
      for (const NameId name : universe_.names_with_prefix(start)) add_of(name, ids);
      universe_.sort(ids);
      return ids;
    }
    for (const PackageId id : universe_.all())
      if (ids.empty() || universe_.name_id(ids.back()) != universe_.name_id(id)) add_of(universe_.name_id(id), ids);
    return ids;
  }

  bool about_size() const { return about_size_; }
  bool about_holds() const { return about_holds_; }

  bool lists(PackageId id) const {
    return std::all_of(all_.begin(), all_.end(),
                       [&](const Condition& condition) { return holds(condition, id) != condition.negated; });
  }

 private:
  void add_of(NameId name, std::vector<PackageId>& ids) const {
    bool offered = false;
    const auto versions = universe_.versions_of(name);
    for (const PackageId id : versions) {
      const bool newest = universe_.offered(id) && !offered;
      offered = offered || universe_.offered(id);
      if (universe_.is_installed(id) || newest || (id == versions.front() && representative(universe_, name) == id))
        ids.push_back(id);
    }
  }

  bool holds(const Condition& condition, PackageId id) const {
    const bool installed = universe_.is_installed(id);
    if (condition.kind == "installed")
      return installed || (condition.negated && universe_.installed_of(universe_.name(id)));
    if (condition.kind == "available") return universe_.offered(id);
    if (condition.kind == "upgradable") return installed && universe_.newer_offer(id);
    if (condition.kind == "wanted") return installed && universe_.wanted(id);
    if (condition.kind == "pulled-in") return installed && !universe_.wanted(id);
    if (condition.kind == "held") return installed && universe_.held(id);
    if (condition.kind == "stray") {
      const auto versions = universe_.slot(id);
      return installed &&
             std::none_of(versions.begin(), versions.end(), [&](PackageId one) { return universe_.offered(one); });
    }
    if (condition.kind == "unneeded") return unneeded_.contains(id);
    if (condition.kind == "size>") return universe_.installed_size(id) > condition.bytes;
    if (condition.kind == "size<") return universe_.installed_size(id) < condition.bytes;
    if (condition.kind == "name") return glob_match(condition.value, universe_.name(id));
    if (condition.kind == "arch") return universe_.architecture(id) == condition.value;
    for (std::size_t i = 0; i < universe_.offer_count(id); ++i) {
      const auto offer = universe_.offer(id, i);
      const std::string_view has = condition.kind == "channel" ? offer.channel : offer.repository;
      if (offer.enabled && glob_match(condition.value, has)) return true;
    }
    return false;
  }

  const Universe& universe_;
  std::vector<Condition> all_;
  std::set<PackageId> unneeded_;
  bool everything_ = false, about_size_ = false, about_holds_ = false;
};

}  // namespace

namespace {

/// What is shelved is not among what is installed: for itself.
int list_shelved(Session& session, const Arguments& arguments) {
  const state::State* const state = session.state();
  const auto shelved = state == nullptr ? std::vector<state::StatePackage>() : state->shelved();
  Table table;
  for (const state::StatePackage& one : shelved) {
    if (session.json())
      session.screen().line(canonical({{"name", one.package.name},
                                       {"version", one.package.version.text()},
                                       {"arch", one.package.arch},
                                       {"summary", one.package.summary},
                                       {"shelved", true},
                                       {"reason", text_of(one.reason)},
                                       {"installed_size", one.package.installed_size}}));
    else
      table.row({{one.package.name, Style::Name},
                 {one.package.version.text()},
                 {text_of(one.reason)},
                 {"shelved", Style::Warn},
                 {size_text(one.package.installed_size), Style::Plain, true},
                 {printable(one.package.summary), Style::Faint}});
  }
  table.print(session.screen());
  if (!session.json() && !session.quiet() && shelved.empty()) session.screen().line("Nothing is shelved.");
  return arguments.has("exit-code") && !shelved.empty() ? 10 : 0;
}

}  // namespace

namespace {

/// Packages that are gone and left edited configuration behind.
int list_leftover(Session& session, const Arguments& arguments) {
  std::map<std::string, std::vector<txn::ConfigFile>> by_package;
  for (txn::ConfigFile& one : operations::leftovers_of(session.root()))
    by_package[one.package.package.name].push_back(one);
  Table table;
  for (const auto& [name, files] : by_package) {
    const txn::ConfigFile& one = files.front();
    if (session.json())
      session.screen().line(canonical({{"name", name},
                                       {"version", one.package.package.version.text()},
                                       {"leftover", files.size()},
                                       {"left", number(one.left)}}));
    else
      table.row({{name, Style::Name},
                 {one.package.package.version.text()},
                 {count_text(files.size(), "file", "files")},
                 {fmt::format("since transaction {}", number(one.left)), Style::Faint},
                 {session.copyable("hambrel remove --purge " + name), Style::Faint}});
  }
  table.print(session.screen());
  if (!session.json() && !session.quiet() && by_package.empty())
    session.screen().line("No removed package left edited configuration behind.");
  return arguments.has("exit-code") && !by_package.empty() ? 10 : 0;
}

enum class Order { Name, Size, Time };

Order order_of(const Arguments& arguments) {
  const std::string word = arguments.value("sort").value_or("name");
  if (word == "name") return Order::Name;
  if (word == "size") return Order::Size;
  if (word == "time") return Order::Time;
  throw Error(ErrorCode::Usage, fmt::format("--sort {}: name, size or time was expected", printable(word)));
}

void sort_by(const Universe& universe, Order order, std::vector<PackageId>& ids) {
  if (order == Order::Name) return;
  const auto key = [&](PackageId id) {
    if (order == Order::Size) return static_cast<std::int64_t>(universe.installed_size(id));
    return universe.is_installed(id) ? universe[id].installed->time : 0;
  };
  std::stable_sort(ids.begin(), ids.end(), [&](PackageId a, PackageId b) { return key(a) > key(b); });
}

/// What removing the listed packages would really free, for each and for all of them together.
class DiskUse {
 public:
  explicit DiskUse(Session& session)
      : universe_(session.universe()), idle_(solve::unneeded_of(universe_, universe_.installed())) {
    for (const repo::CachedFile& one : repo::cached_files(session.files())) cached_[one.name] += one.size;
  }
  struct Of {
    plan::Freed freed;
    ByteCount cached = 0;
    std::vector<std::string> others, needed_by;  // names
    bool alone() const { return needed_by.empty(); }
  };
  Of of(const std::vector<PackageId>& ids) const {
    Of result;
    result.freed = plan::freed_by(universe_, ids, idle_);
    std::set<std::string> names;
    for (const PackageId id : result.freed.packages)
      if (names.emplace(universe_.name(id)).second)
        if (const auto found = cached_.find(std::string(universe_.name(id))); found != cached_.end())
          result.cached += found->second;
    for (std::size_t i = ids.size(); i < result.freed.packages.size(); ++i)
      result.others.emplace_back(universe_.name(result.freed.packages[i]));
    for (const PackageId id : result.freed.stand_on) result.needed_by.emplace_back(universe_.name(id));
    return result;
  }

 private:
  const Universe& universe_;
  std::vector<PackageId> idle_;              // what nothing needs already
  std::map<std::string, ByteCount> cached_;  // by name
};

std::string some_of(std::vector<std::string> names) {
  constexpr std::size_t kMost = 3;
  const std::size_t more = names.size() > kMost ? names.size() - kMost : 0;
  names.resize(names.size() - more);
  return join(names, ", ") + (more > 0 ? fmt::format(" and {} more", more) : "");
}

/// "12 MiB", and with what; or why it can't go alone.
std::pair<std::string, std::string> freed_text(const DiskUse::Of& use) {
  if (!use.alone()) return {"", "needed by " + some_of(use.needed_by)};
  return {"frees " + size_text(use.freed.bytes + use.cached), use.others.empty() ? "" : "with " + some_of(use.others)};
}

void print_sum(Session& session, const DiskUse& use, const std::vector<PackageId>& installed) {
  const auto all = use.of(installed);
  const std::string who = installed.size() == 1 ? "it" : fmt::format("these {} together", installed.size());
  const auto say = [&](const std::string& text) {
    session.screen().line();
    if (output_is_terminal())
      session.screen().raw(wrapped(text, 0, terminal_width()));
    else
      session.screen().line(text);
  };
  if (!all.alone())
    return say(
        fmt::format("Removing {} would leave others without what they require: {}.", who, some_of(all.needed_by)));
  say(fmt::format("Removing {} would free {}: {} of files{}, and {} in the cache.", who,
                  size_text(all.freed.bytes + all.cached), size_text(all.freed.bytes),
                  all.others.empty() ? "" : fmt::format(", with {} that nothing needs then", some_of(all.others)),
                  size_text(all.cached)));
  session.screen().line(
      fmt::format("The files lie in the attic until it gives them up: `{}`.", session.copyable("hambrel tidy attic")));
}

/// "until 2030-01-31", "the gauge driver needs it"
std::string hold_text(const Hold& hold) {
  std::string text = fmt::format("since {} by {}", time_text(hold.since), hold.user);
  if (hold.until != 0) text += ", until " + utc_text(hold.until).substr(0, 10);
  return hold.reason.empty() ? text : text + ": " + hold.reason;
}

Json hold_json(const Hold& hold) {
  return {{"since", utc_text(hold.since)},
          {"until", hold.until == 0 ? Json() : Json(utc_text(hold.until))},
          {"user", hold.user},
          {"reason", hold.reason}};
}

}  // namespace

int run_list(Session& session, const Arguments& arguments) {
  if (arguments.words() == std::vector<std::string>{"shelved"}) return list_shelved(session, arguments);
  if (arguments.words() == std::vector<std::string>{"leftover"}) return list_leftover(session, arguments);
  const Order order = order_of(arguments);
  session.tell_of_unusable_repositories();
  const bool plain = order == Order::Name && !arguments.value("most") && !session.json() && !session.screen().color();
  if (plain && (arguments.words().empty() || arguments.words() == std::vector<std::string>{"installed"}))
    if (const auto kept = session.listing(); kept && !kept->text().empty()) {
      session.screen().raw(kept->text());
      return arguments.has("exit-code") ? 10 : 0;
    }
  const Universe& universe = session.universe();
  const Conditions conditions(universe, arguments.words());
  const Screen& screen = session.screen();
  auto listed = conditions.candidates();
  std::erase_if(listed, [&](PackageId id) { return !conditions.lists(id); });
  sort_by(universe, order, listed);
  const std::size_t count = listed.size();
  if (const auto most = arguments.number("most")) listed.resize(std::min<std::size_t>(count, *most));
  constexpr std::size_t kReckoned = 50;  // for more of them it would take a while
  std::vector<PackageId> installed;
  std::copy_if(listed.begin(), listed.end(), std::back_inserter(installed),
               [&](PackageId id) { return universe.is_installed(id); });
  const bool sizes = conditions.about_size() || order == Order::Size;
  std::optional<DiskUse> use;
  if (sizes && installed.size() <= kReckoned && !installed.empty()) use.emplace(session);
  Table table;
  table.expect(listed.size());
  for (const PackageId id : listed) {
    const bool here = universe.is_installed(id), wanted = universe.wanted(id);
    const auto freed = use && here ? std::optional(use->of({id})) : std::nullopt;
    if (session.json()) {
      Json object = brief_json(universe, id);
      if (freed)
        object["frees"] = {{"files", freed->freed.bytes},
                           {"cache", freed->cached},
                           {"with", freed->others},
                           {"needed_by", freed->needed_by}};
      if (here && universe[id].installed->hold) object["hold"] = hold_json(*universe[id].installed->hold);
      screen.line(canonical(object));
      continue;
    }
    if (conditions.about_holds() && here && universe[id].installed->hold) {
      const auto newer = universe.newer_offer(id);
      table.row({{universe.name(id), Style::Name},
                 {universe.version(id)},
                 {newer ? fmt::format("-> {} waits", universe.version(*newer)) : "nothing waits",
                  newer ? Style::Come : Style::Faint},
                 {printable(hold_text(*universe[id].installed->hold))}});
    } else if (sizes) {
      const auto [frees, note] = freed ? freed_text(*freed) : std::pair<std::string, std::string>();
      table.row({{universe.name(id), Style::Name},
                 {universe.version(id)},
                 {here ? text_of(wanted ? Reason::Wanted : Reason::PulledIn) : std::string_view(),
                  wanted ? Style::Plain : Style::Faint},
                 {size_text(universe.installed_size(id)), Style::Plain, true},
                 {frees, Style::Go, true},
                 {note, Style::Faint}});
    } else {
      add_listed(table, universe, id);
    }
  }
  table.print(screen);
  if (!session.json() && !session.quiet()) {
    if (count == 0)
      screen.line("Nothing meets these conditions.");
    else if (listed.size() < count)
      screen.line(fmt::format("  ... and {} more", count - listed.size()));
    if (use) print_sum(session, *use, installed);
  }
  return arguments.has("exit-code") && count > 0 ? 10 : 0;
}

}  // namespace hambrel::cli
