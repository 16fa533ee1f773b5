#include "report/facts.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "operations/checkpoints.h"
#include "operations/configuration.h"
#include "operations/freeable.h"
#include "operations/ledger.h"
#include "operations/limits.h"
#include "operations/listed.h"
#include "operations/looking.h"
#include "operations/repositories.h"
#include "operations/services.h"
#include "operations/verifying.h"
#include "operations/whats_new.h"
#include "os/host.h"
#include "plan/freed.h"
#include "plan/plan_record.h"
#include "solve/solver.h"

namespace hambrel::report {

namespace {

constexpr const char* kVerifiedFile = "var/cache/hambrel/verified.json";
constexpr std::size_t kMostVerifiedBytes = 4096;

/// What it is called, and the command that frees it.
std::pair<const char*, const char*> words_of(operations::FreeableArea::Kind kind) {
  using Kind = operations::FreeableArea::Kind;
  switch (kind) {
    case Kind::Unneeded: return {"unneeded packages", "hambrel tidy unneeded"};
    case Kind::Configs: return {"leftover configuration", "hambrel tidy configs"};
    case Kind::Cache: return {"cache", "hambrel tidy cache --all"};
    case Kind::Attic: return {"attic", "hambrel tidy attic --keep N"};
    case Kind::Checkpoints: return {"checkpoints", "hambrel checkpoint drop NAME"};
    case Kind::Prepared: return {"prepared", "hambrel activate --discard"};
  }
  return {"", ""};
}

class Gathering {
 public:
  Gathering(operations::Root& root, Copyable copyable) : root_(root) { facts_.copyable = std::move(copyable); }

  Facts run() {
    facts_.root = "/" + os::host_path(root_.options().path);
    facts_.arch = root_.settings().architectures.front();
    facts_.now = os::source_date_epoch(os::now());
    if (root_.files().real_path("") == "/") facts_.host = os::host_name();
    for (const std::string& one : root_.unusable_repositories()) facts_.gaps.push_back(one);
    part("packages", [&] { packages(); });
    part("upgrades", [&] { upgrades(); });
    part("the ledger", [&] { transactions(); });
    part("what can be freed", [&] { space(); });
    part("checkpoints", [&] { checkpoints(); });
    part("repositories", [&] { sources(); });
    part("configuration", [&] { configs(); });
    part("generated files", [&] { made(); });
    part("services", [&] { services(); });
    part("the last verify", [&] { verified(); });
    return std::move(facts_);
  }

 private:
  /// What goes wrong with a part leaves it out, and says so.
  void part(const char* name, const std::function<void()>& gather) {
    try {
      gather();
    } catch (const Error& problem) {
      if (problem.code() == ErrorCode::Internal) throw;
      facts_.gaps.push_back(fmt::format("{}: {}", name, problem.what()));
    }
  }

  void packages() {
    const Universe& universe = root_.universe();
    const auto unneeded = solve::unneeded_of(universe, universe.installed());
    const std::set<PackageId> idle(unneeded.begin(), unneeded.end());
    const auto freed = plan::freed_by_each(universe);
    for (std::size_t i = 0; i < freed.size(); ++i) {
      const PackageId id = universe.installed()[i];
      const Candidate& one = universe[id];
      InstalledFact fact;
      fact.name = one.package.name;
      fact.version = one.package.version.text();
      fact.arch = one.package.arch;
      fact.category = one.package.category;
      fact.bytes = one.package.installed_size;
      fact.is_wanted = universe.wanted(id);
      fact.is_held = universe.held(id);
      fact.is_unneeded = idle.contains(id);
      fact.since = one.installed->time;
      fact.origin = one.installed->origin;
      fact.needed_by = freed[i].needed_by;
      fact.freed = freed[i].bytes;
      facts_.files += one.package.file_count;
      facts_.bytes += fact.bytes;
      facts_.packages.push_back(std::move(fact));
    }
  }

  void upgrades() {
    const Universe& universe = root_.universe();
    std::map<PackageId, std::vector<std::string>> fixes;
    for (const auto& problem : operations::known_problems(root_))
      for (const Advisory& one : problem.advisories) fixes[problem.installed].push_back(operations::text_of(one));
    for (const PackageId id : universe.installed()) {
      const auto newer = universe.newer_offer(id);
      if (!newer) continue;
      const Candidate& one = universe[id];
      UpgradeFact fact;
      fact.name = one.package.name;
      fact.from = one.package.version.text();
      fact.to = universe.version(*newer);
      if (const auto& offers = universe[*newer].offers; !offers.empty()) fact.origin = offers.front().title();
      fact.since = one.installed->time;
      fact.is_held = universe.held(id);
      if (one.installed->hold) fact.why = one.installed->hold->reason;
      if (const auto found = fixes.find(id); found != fixes.end()) fact.fixes = found->second;
      facts_.upgrades.push_back(std::move(fact));
    }
  }

  static void count(const plan::Plan& plan, TransactionFact& fact) {
    using plan::Action;
    for (const plan::Step& step : plan.steps) switch (step.action) {
        case Action::Install:
        case Action::Unshelve: ++fact.installed; break;
        case Action::Upgrade: ++fact.upgraded; break;
        case Action::Downgrade: ++fact.downgraded; break;
        case Action::Remove:
        case Action::Shelve: ++fact.removed; break;
        default: ++fact.other;
      }
    fact.size_change = plan.size_change();
  }

  /// Which transaction was taken back by which, and where a rollback led.
  void resolve_undos(const std::map<std::int64_t, std::int64_t>& undoers) {
    for (TransactionFact& one : facts_.transactions) {
      const auto undoer = undoers.find(one.id);
      if (undoer == undoers.end()) continue;
      const auto redoer = undoers.find(undoer->second);
      if (redoer == undoers.end()) one.undone_by = undoer->second;
    }
  }

  void transactions() {
    std::map<std::int64_t, std::int64_t> undoers;
    std::map<std::int64_t, ByteCount> attics;
    if (root_.state() != nullptr)
      for (const auto& one : operations::standing_attics(root_))
        attics[number(one.attic.id)] = one.attic.bytes.value_or(0);
    for (const auto& entry : operations::ledger_entries(root_, UINT64_MAX >> 1U)) {
      TransactionFact fact;
      fact.id = number(entry.id);
      fact.ended = entry.ended;
      fact.kind = entry.kind;
      fact.user = entry.user;
      fact.command = entry.command;
      fact.note = entry.note;
      fact.result = entry.result;
      fact.problem = entry.problem;
      const plan::Plan plan = plan::plan_of(entry.record);
      if (fact.is_done()) {
        count(plan, fact);
        if (const auto found = attics.find(fact.id); found != attics.end()) fact.attic = found->second;
        if (entry.undo_of) {
          fact.undoes = number(*entry.undo_of);
          undoers.emplace(number(*entry.undo_of), fact.id);  // the newest comes first
        }
        if (!entry.undo_of && fact.kind == "rollback")
          for (const plan::Step& step : plan.steps)
            if (step.why.kind == plan::WhyKind::RolledBack)
              if (const auto to = parse_number(step.why.by)) fact.undoes = static_cast<std::int64_t>(*to);
      }
      facts_.transactions.push_back(std::move(fact));
    }
    std::reverse(facts_.transactions.begin(), facts_.transactions.end());
    resolve_undos(undoers);
    // what is installed now is known; what was before follows from what each transaction changed
    auto packages = static_cast<std::int64_t>(facts_.packages.size());
    auto bytes = static_cast<std::int64_t>(facts_.bytes);
    for (auto one = facts_.transactions.rbegin(); one != facts_.transactions.rend(); ++one) {
      one->packages_after = static_cast<std::size_t>(std::max<std::int64_t>(0, packages));
      one->bytes_after = std::max<std::int64_t>(0, bytes);
      packages -= static_cast<std::int64_t>(one->installed) - static_cast<std::int64_t>(one->removed);
      bytes -= one->size_change;
    }
  }

  void space() {
    for (const auto& one : operations::freeable(root_)) {
      const auto [name, command] = words_of(one.kind);
      facts_.space.push_back({name, one.count, one.bytes, one.free, facts_.copyable(command)});
    }
  }

  void checkpoints() {
    if (root_.state() == nullptr) return;
    for (const auto& one : operations::checkpoints(root_))
      facts_.checkpoints.push_back(
          {one.checkpoint.name, one.checkpoint.note, number(one.checkpoint.after), one.checkpoint.time, one.attic});
  }

  void sources() {
    for (const auto& index : operations::repositories(root_)) {
      SourceFact fact;
      const auto& repository = index.repository;
      fact.name = repository.name;
      fact.url = shown_url(repository.url);
      fact.is_enabled = repository.enabled;
      fact.fetched = index.fetched;
      fact.problem = index.problem;
      const std::string doubt = operations::doubt_of(index);
      fact.trust = index.version == 0 ? "no index" : "signed";
      if (!doubt.empty()) fact.trust = doubt;
      fact.keys = index.signers;
      const auto more = operations::facts_of(root_, repository.name);
      fact.installed = more.installed;
      fact.offered = more.offered;
      for (const auto& role : more.roles)
        if (role.expires != 0 && (fact.expires == 0 || role.expires < fact.expires)) fact.expires = role.expires;
      if (!more.damage.empty()) fact.problem = more.damage;
      facts_.sources.push_back(std::move(fact));
    }
  }

  void configs() {
    for (const auto& one : operations::configuration_files(root_)) {
      ++facts_.configs_in_all;
      if (one.state == operations::ConfigState::Pristine) continue;
      facts_.configs.push_back({"/" + one.path, one.package.package.name, std::string(text_of(one.state))});
    }
  }

  void made() {
    for (const auto& one : operations::made_files(root_))
      facts_.made.push_back({"/" + one.path, one.package, one.program});
  }

  void services() {
    if (root_.is_new()) return;
    for (const auto& one : operations::service_list(root_, true).lines)
      if (!one.replaced.empty()) facts_.services_due.push_back({one.name, one.package, one.replaced.size()});
    for (const auto& one : operations::only_due(root_).left_out)
      facts_.programs_due.push_back(fmt::format("{} of {}", one.run.program, one.run.package));
  }

  void verified() {
    if (!root_.files().stat(kVerifiedFile)) return;
    const std::string where = root_.files().shown(kVerifiedFile);
    const Json whole = parse_json(root_.files().read_itself(kVerifiedFile, kMostVerifiedBytes), where);
    const JsonObject object(whole, where);
    Facts::Verified verified;
    verified.time = static_cast<std::int64_t>(object.number("time"));
    verified.packages = object.number("packages");
    verified.files = object.number("files");
    verified.damaged = object.number("damaged");
    verified.is_fast = object.text("depth") == "fast";
    facts_.verified = verified;
  }

  operations::Root& root_;
  Facts facts_;
};

}  // namespace

std::size_t Facts::wanted() const {
  return static_cast<std::size_t>(
      std::count_if(packages.begin(), packages.end(), [](const InstalledFact& one) { return one.is_wanted; }));
}

ByteCount Facts::to_be_freed() const {
  ByteCount free = 0;
  for (const SpaceFact& one : space) free += one.free;
  return free;
}

Facts facts_of(operations::Root& root, Copyable copyable) { return Gathering(root, std::move(copyable)).run(); }

void note_verified(operations::Root& root, const Facts::Verified& verified) {
  try {
    root.files().replace_cache(kVerifiedFile,
                               canonical(Json{{"time", verified.time},
                                              {"packages", verified.packages},
                                              {"files", verified.files},
                                              {"damaged", verified.damaged},
                                              {"depth", verified.is_fast ? "fast" : "full"}}) +
                                   "\n",
                               0644);
  } catch (const Error&) {  // somebody else's cache: it is only not remembered
  }
}

namespace {

Json to_json(const TransactionFact& one) {
  Json object = {{"id", one.id},
                 {"ended", one.ended},
                 {"kind", one.kind},
                 {"user", one.user},
                 {"command", one.command},
                 {"note", one.note},
                 {"result", one.result},
                 {"problem", one.problem},
                 {"installed", one.installed},
                 {"upgraded", one.upgraded},
                 {"downgraded", one.downgraded},
                 {"removed", one.removed},
                 {"other", one.other},
                 {"size_change", one.size_change},
                 {"packages_after", one.packages_after},
                 {"bytes_after", one.bytes_after},
                 {"undoes", one.undoes ? Json(*one.undoes) : Json()},
                 {"undone_by", one.undone_by ? Json(*one.undone_by) : Json()},
                 {"attic", one.attic ? Json(*one.attic) : Json()}};
  return object;
}

template <typename Fact, typename Make>
Json json_list(const std::vector<Fact>& facts, const Make& make) {
  Json list = Json::array();
  for (const Fact& one : facts) list.push_back(make(one));
  return list;
}

Json verified_json(const std::optional<Facts::Verified>& verified) {
  if (!verified) return {};
  return {{"time", verified->time},
          {"packages", verified->packages},
          {"files", verified->files},
          {"damaged", verified->damaged},
          {"fast", verified->is_fast}};
}

}  // namespace

Json to_json(const Facts& facts) {
  Json object = {{"root", facts.root},
                 {"host", facts.host},
                 {"arch", facts.arch},
                 {"time", facts.now},
                 {"files", facts.files},
                 {"bytes", facts.bytes},
                 {"configs_in_all", facts.configs_in_all},
                 {"programs_due", facts.programs_due},
                 {"gaps", facts.gaps},
                 {"verified", verified_json(facts.verified)}};
  object["packages"] = json_list(facts.packages, [](const InstalledFact& one) {
    return Json{{"name", one.name},           {"version", one.version},      {"arch", one.arch},
                {"category", one.category},   {"bytes", one.bytes},          {"wanted", one.is_wanted},
                {"held", one.is_held},        {"unneeded", one.is_unneeded}, {"frees", one.freed},
                {"needed_by", one.needed_by}, {"since", one.since},          {"origin", one.origin}};
  });
  object["upgrades"] = json_list(facts.upgrades, [](const UpgradeFact& one) {
    return Json{{"name", one.name},   {"from", one.from},    {"to", one.to},   {"origin", one.origin},
                {"since", one.since}, {"held", one.is_held}, {"why", one.why}, {"fixes", one.fixes}};
  });
  object["transactions"] = json_list(facts.transactions, [](const TransactionFact& one) { return to_json(one); });
  object["checkpoints"] = json_list(facts.checkpoints, [](const CheckpointFact& one) {
    return Json{{"name", one.name}, {"note", one.note}, {"after", one.after}, {"time", one.time}, {"attic", one.attic}};
  });
  object["space"] = json_list(facts.space, [](const SpaceFact& one) {
    return Json{
        {"area", one.area}, {"count", one.count}, {"bytes", one.bytes}, {"free", one.free}, {"command", one.command}};
  });
  object["sources"] = json_list(facts.sources, [](const SourceFact& one) {
    return Json{
        {"name", one.name},           {"url", one.url},        {"trust", one.trust},     {"problem", one.problem},
        {"enabled", one.is_enabled},  {"keys", one.keys},      {"fetched", one.fetched}, {"expires", one.expires},
        {"installed", one.installed}, {"offered", one.offered}};
  });
  object["configs"] = json_list(facts.configs, [](const ConfigFact& one) {
    return Json{{"path", one.path}, {"package", one.package}, {"state", one.state}};
  });
  object["generated"] = json_list(facts.made, [](const MadeFact& one) {
    return Json{{"path", one.path}, {"package", one.package}, {"program", one.program}};
  });
  object["services_due"] = json_list(facts.services_due, [](const ServiceFact& one) {
    return Json{{"name", one.name}, {"package", one.package}, {"replaced", one.replaced}};
  });
  return object;
}

}  // namespace hambrel::report
