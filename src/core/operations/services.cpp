#include "operations/services.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "os/host.h"
#include "os/processes.h"
#include "txn/extra_puts.h"

namespace hambrel::operations {

using rehearsal::Party;
using StepKind = plan::ServiceStep::Kind;

namespace {

bool will_be_there(Root& root, const txn::Planned* planned, const std::string& path) {
  if (root.files().stat_followed(path)) return true;
  return planned != nullptr && std::any_of(planned->tree.puts.begin(), planned->tree.puts.end(),
                                           [&](const txn::Put& one) { return one.entry.path() == path; });
}

struct Known {
  Service service;
  std::string package;
};

/// Of installed packages, by name.
std::map<std::string, Known> services_of(Root& root) {
  std::map<std::string, Known> all;
  if (root.state() == nullptr) return all;
  for (const state::StatePackage& one : root.state()->acting())
    for (const Service& service : one.package.actions->services)
      all.try_emplace(service.name, Known{service, one.package.name});
  return all;
}

Known require_known(Root& root, const std::string& name) {
  const auto all = services_of(root);
  if (const auto found = all.find(name); found != all.end()) return found->second;
  std::vector<std::string> names;
  for (const auto& [each, known] : all) names.push_back(each);
  const std::string near = did_you_mean(name, names);
  throw Error(ErrorCode::NotFound, fmt::format("no installed package has a service \"{}\"", printable(name)), {},
              near.empty() ? "`hambrel services` lists those that there are" : near);
}

/// What a manager of the wrong kind has to say where one is needed.
std::unique_ptr<services::Manager> require_manager(Root& root) {
  auto manager = service_manager(root);
  if (manager == nullptr)
    throw Error(
        ErrorCode::Refused, "no service manager is known in this root", {},
        "say which in hambrel.toml: manager = \"systemd\", \"runit\", \"sysv\" or \"commands\" below [services]");
  return manager;
}

std::string link_at(Root& root, const std::string& path) {
  const auto info = root.files().stat(path);
  return info && info->type == os::FileType::Symlink ? root.files().read_link(path) : std::string();
}

bool is_enabled(Root& root, const std::vector<services::Link>& links) {
  return std::any_of(links.begin(), links.end(),
                     [&](const auto& one) { return root.files().stat(one.path).has_value(); });
}

FileEntry entry_of(const services::Link& link) {
  FileEntry entry;
  entry.path = link.path;
  entry.type = EntryType::Symlink;
  entry.mode = 0777;
  entry.target = link.target;
  return entry;
}

/// What becomes of the services of the packages of one change.
class ServicePlan {
 public:
  ServicePlan(Root& root, txn::Planned& planned, const ActingTerms& terms)
      : root_(root),
        planned_(planned),
        terms_(terms),
        manager_(service_manager(root, &planned)),
        puts_(root.files(), planned.tree) {}

  void add(const Party& party) {
    const auto list = [](const SharedActions& actions) {
      return actions == nullptr ? std::vector<Service>() : actions->services;
    };
    const auto was = list(party.was), is = list(party.is);
    const auto in = [](const std::vector<Service>& all, const std::string& name) {
      const auto found = std::find_if(all.begin(), all.end(), [&](const Service& one) { return one.name == name; });
      return found == all.end() ? nullptr : &*found;
    };
    for (const Service& one : was)
      if (in(is, one.name) == nullptr) leaves(party, one);
    for (const Service& one : is)
      if (const Service* const before = in(was, one.name); before != nullptr)
        changes(party, *before, one);
      else
        comes(party, one);
  }

 private:
  static std::string occasion(const Party& party) {
    if (party.only_files) return party.after.empty() ? "is shelved" : "comes back from the shelf";
    if (party.before.empty()) return "is installed";
    if (party.after.empty()) return "is removed";
    if (party.downgrades) return "goes back to an older version";
    return party.before == party.after ? "is repaired" : "is upgraded";
  }

  plan::ServiceStep step(const Party& party, const Service& service, StepKind kind) const {
    plan::ServiceStep one;
    one.kind = kind;
    one.name = service.name;
    one.package = party.name;
    one.occasion = occasion(party);
    if (kind == StepKind::Start || kind == StepKind::Restart || kind == StepKind::Reload) {
      one.must_run = terms_.running.contains(service.name);
      if (root_.settings().hooks.allowed) {
        one.check = service.check;
        one.check_seconds = service.check.empty() ? 0 : service.check_seconds;
      }
    }
    return one;
  }
  void tell(plan::ServiceStep one) { planned_.services.push_back(std::move(one)); }

  bool is_live() const { return manager_ != nullptr && manager_->is_live(); }
  bool runs(const Service& service) const {
    if (terms_.running.contains(service.name)) return true;
    return is_live() && manager_->state_of(service.name) != services::State::Stopped;
  }
  bool moves_come_from_attic() const { return !planned_.attic.empty(); }

  void comes(const Party& party, const Service& service) {
    if (manager_ == nullptr) return;
    const auto links = manager_->links_of(service);
    bool enabled = is_enabled(root_, links);
    if (service.enable && !enabled && !links.empty() && !moves_come_from_attic() && !party.only_files) {
      for (const services::Link& one : links) put(one);
      enabled = true;
      plan::ServiceStep told = step(party, service, StepKind::Enable);
      told.occasion.clear();
      tell(std::move(told));
    }
    if (moves_come_from_attic() ? !was_stopped(service) : !service.start) return;
    if (is_live() && (enabled || moves_come_from_attic() || !manager_->needs_link()))
      tell(step(party, service, StepKind::Start));
  }

  /// By the transaction that is taken back: else it did not run.
  bool was_stopped(const Service& service) const {
    if (!planned_.undo_of) return false;
    const auto runs = root_.state()->runs_of(*planned_.undo_of);
    return std::any_of(runs.begin(), runs.end(), [&](const state::RunRecord& one) {
      return one.occasion == "stop" && one.program == kServiceProgram + service.name;
    });
  }

  void leaves(const Party& party, const Service& service) {
    if (runs(service)) tell(step(party, service, StepKind::Stop));
    if (manager_ == nullptr || moves_come_from_attic() || party.only_files) return;
    bool some = false;
    for (const services::Link& one : manager_->links_of(service))
      if (link_at(root_, one.path) == one.target) {
        puts_.remove(one.path);
        some = true;
      }
    if (!some) return;
    plan::ServiceStep told = step(party, service, StepKind::Disable);
    told.occasion.clear();
    tell(std::move(told));
  }

  void changes(const Party& party, const Service& was, const Service& is) {
    if (!runs(is)) return;
    using OnUpgrade = Service::OnUpgrade;
    const unsigned rehearsal = reads_live(party) ? root_.settings().hooks.seconds : 0;
    const bool before = was.on_upgrade == OnUpgrade::StopBefore || is.on_upgrade == OnUpgrade::StopBefore;
    if (is.on_upgrade == OnUpgrade::Nothing && rehearsal == 0 && !before && !terms_.running.contains(is.name)) return;
    const bool only_reads = is.on_upgrade == OnUpgrade::Reload && rehearsal == 0 && !before;
    plan::ServiceStep one = step(party, is, only_reads ? StepKind::Reload : StepKind::Restart);
    one.stopped_before = before || rehearsal > 0;
    one.rehearsal = rehearsal;
    if (rehearsal > 0 && terms_.prepares)
      throw Error(ErrorCode::Refused,
                  fmt::format("{} can't be prepared: its hook reads what the service {} writes", party.name, is.name),
                  {}, "leave out --prepare: the service is stopped first then");
    tell(std::move(one));
  }

  /// Does one of its hooks that is due read what its services write?
  bool reads_live(const Party& party) const {
    if (terms_.without_hooks || party.only_files || moves_come_from_attic() || party.is == nullptr) return false;
    return std::any_of(party.is->hooks.begin(), party.is->hooks.end(),
                       [&](const Hook& one) { return one.reads_live && one.is_for(party.moment()); });
  }

  void put(const services::Link& link) {
    if (puts_.at(link.path) != nullptr) return;
    puts_.add(entry_of(link));
  }

  Root& root_;
  txn::Planned& planned_;
  const ActingTerms& terms_;
  std::unique_ptr<services::Manager> manager_;
  txn::ExtraPuts puts_;
};

}  // namespace

std::unique_ptr<services::Manager> service_manager(Root& root, const txn::Planned* planned) {
  return services::manager_of(
      root.settings().services, [&](const std::string& path) { return will_be_there(root, planned, path); },
      os::is_own_root(root.options().path));
}

void add_services(Root& root, txn::Planned& planned, const std::vector<Party>& parties, const ActingTerms& terms) {
  planned.services.clear();
  const auto has = [](const SharedActions& actions) { return actions != nullptr && !actions->services.empty(); };
  if (std::none_of(parties.begin(), parties.end(), [&](const Party& one) { return has(one.was) || has(one.is); }))
    return;
  ServicePlan plan(root, planned, terms);
  for (const Party& party : parties) plan.add(party);
  planned.plan.services = planned.services;
}

namespace {

/// Each process by its number, and what started it: a service's are those that its manager names, and all below them.
class Owners {
 public:
  explicit Owners(const std::vector<os::Process>& all) {
    for (const os::Process& one : all) parent_[one.id] = one.parent;
  }
  void add(const std::string& service, const std::vector<int>& processes) {
    for (const int one : processes) service_[one] = service;
  }
  /// Empty: it is of no service.
  std::string of(int process) const {
    for (int steps = 0; process > 1 && steps < 100; ++steps) {
      if (const auto found = service_.find(process); found != service_.end()) return found->second;
      const auto above = parent_.find(process);
      process = above == parent_.end() ? 0 : above->second;
    }
    return {};
  }

 private:
  std::map<int, int> parent_;
  std::map<int, std::string> service_;
};

/// What lies in an attic is told by the path that it had.
class FormerPaths {
 public:
  explicit FormerPaths(Root& root) : root_(root) {}
  std::vector<std::string> of(const std::set<std::string>& replaced) {
    std::set<std::string> paths;
    for (const std::string& one : replaced) paths.insert(path_of(one));
    return {paths.begin(), paths.end()};
  }

 private:
  std::string path_of(const std::string& seen) {
    static const std::string attics = fmt::format("/{}/attic/", kStateDirectory);
    if (!seen.starts_with(attics)) return seen;
    const std::size_t end = seen.find('/', attics.size());
    const auto id = parse_number(seen.substr(attics.size(), end - attics.size()));
    if (!id || end == std::string::npos) return seen;
    const std::string place = seen.substr(end + 1);
    const auto& moves = moves_of(static_cast<std::int64_t>(*id));
    for (std::string above = place, rest; !above.empty();) {
      if (const auto found = moves.find(above); found != moves.end()) return "/" + found->second + rest;
      const std::size_t slash = above.rfind('/');
      if (slash == std::string::npos) break;
      rest = above.substr(slash) + rest;
      above.erase(slash);
    }
    return seen;
  }
  /// By the place in the attic.
  const std::map<std::string, std::string>& moves_of(std::int64_t id) {
    auto [found, is_new] = moves_.try_emplace(id);
    if (is_new)
      for (const state::Move& one : root_.state()->moves_of(state::TxnId{id}))
        found->second.emplace(one.place, one.path);
    return found->second;
  }
  Root& root_;
  std::map<std::int64_t, std::map<std::string, std::string>> moves_;
};

std::string attic_as_seen() { return fmt::format("/{}/", kStateDirectory); }

}  // namespace

ServiceList service_list(Root& root, bool with_due) {
  ServiceList list;
  const auto known = services_of(root);
  const auto manager = service_manager(root);
  if (manager != nullptr) list.manager = manager->name();
  list.live = manager != nullptr && manager->is_live();
  const auto processes = list.live && with_due ? os::processes(true, attic_as_seen()) : std::vector<os::Process>();
  Owners owners(processes);
  FormerPaths paths(root);
  for (const auto& [name, one] : known) {
    ServiceLine line{name, one.package};
    if (list.live) line.state = manager->state_of(name);
    if (manager != nullptr)
      if (const auto links = manager->links_of(one.service); !links.empty()) line.enabled = is_enabled(root, links);
    if (list.live && with_due) owners.add(name, manager->processes_of(name));
    list.lines.push_back(std::move(line));
  }
  for (const os::Process& process : processes) {
    if (process.replaced.empty() || process.id == os::process_id()) continue;
    const std::string service = owners.of(process.id);
    const std::vector<std::string> files = paths.of(process.replaced);
    const auto line =
        std::find_if(list.lines.begin(), list.lines.end(), [&](const ServiceLine& one) { return one.name == service; });
    if (line != list.lines.end())
      line->replaced.insert(line->replaced.end(), files.begin(), files.end());
    else
      list.others.push_back({process.id, process.name, os::user_name_of(process.user), files, process.id == 1});
  }
  return list;
}

services::Done settled(const services::Manager& manager, const std::string& service) {
  constexpr int kSettled = 1000;  // milliseconds
  os::sleep_milliseconds(kSettled);
  const ServiceState state = manager.state_of(service);
  const bool good = state == ServiceState::Running || state == ServiceState::Unknown;
  return {good, good ? "" : fmt::format("a second later it is {}", services::text_of(state))};
}

bool are_failures_undone(Root& root) { return root.settings().services.undoes; }

namespace {

/// What is asked of the manager, and what it said.
std::pair<std::string, services::Done> asked_of(services::Manager& manager, const std::string& name,
                                                ServiceAction action) {
  switch (action) {
    case ServiceAction::Start: return {"start", manager.start(name)};
    case ServiceAction::Stop: return {"stop", manager.stop(name)};
    case ServiceAction::Restart: return {"restart", manager.restart(name)};
    case ServiceAction::Reload: break;
  }
  return {"reload", manager.reload(name)};
}

}  // namespace

ServiceDone act_on(Root& root, const std::string& name, ServiceAction action) {
  require_known(root, name);
  const auto manager = require_manager(root);
  if (!manager->is_live())
    throw Error(ErrorCode::Refused, fmt::format("{} does not run on this root", manager->name()), root.options().path,
                "services are started and stopped on the running system only");
  auto [called, done] = asked_of(*manager, name, action);
  if (done.good && action != ServiceAction::Stop) done = settled(*manager, name);
  return {name, called, done.good, done.said};
}

std::unique_ptr<Proposal> propose(Root& root, const EnableRequest& request) {
  const Known known = require_known(root, request.name);
  const auto manager = require_manager(root);
  const auto links = manager->links_of(known.service);
  if (links.empty())
    throw Error(ErrorCode::Refused, "with manager = \"commands\" it is not known how a service is enabled", {},
                "do it with the service manager itself");
  txn::Planned planned;
  planned.plan.kind = request.enable ? "enable" : "disable";
  txn::ExtraPuts puts(root.files(), planned.tree);
  bool some = false;
  for (const services::Link& one : links) {
    if (root.files().stat(one.path).has_value() == request.enable) continue;
    some = true;
    if (!request.enable) {
      puts.remove(one.path);
      continue;
    }
    puts.add(entry_of(one));
  }
  if (some) {
    plan::ServiceStep step;
    step.kind = request.enable ? StepKind::Enable : StepKind::Disable;
    step.name = request.name;
    step.package = known.package;
    planned.services.push_back(step);
    planned.plan.services = planned.services;
  }
  PlannedTerms terms;
  terms.end = request.end;
  return propose(root, std::move(planned), terms, {}, "this is so already");
}

}  // namespace hambrel::operations
