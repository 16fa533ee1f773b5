// install, remove, upgrade, change, downgrade; hold, release, want, unwant: what is asked for.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/plan.h"
#include "operations/leftovers.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

/// A version that is named exactly, and that nobody offers, may come from the attic or the cache.
void add_kept_for(Session& session, const std::vector<Spec>& specs) {
  const auto is_missing = [&](const Spec& spec) {
    if (spec.kind != Spec::Kind::Name || spec.constraint.op != Operator::Equal) return false;
    const Universe& universe = session.universe();
    const auto versions = universe.versions_of(spec.constraint.name);
    return std::none_of(versions.begin(), versions.end(), [&](PackageId id) {
      return version_allowed(Operator::Equal, spec.constraint.version.text(), universe.version(id));
    });
  };
  if (std::any_of(specs.begin(), specs.end(), is_missing)) session.root().add_kept();
}

void add_install(Session& session, const Spec& spec, solve::Request& request) {
  const Universe& universe = session.universe();
  const auto ids = operations::select(session.root(), spec);
  if (spec.kind == Spec::Kind::Channel) request.channels.insert(spec.channel);
  if (spec.kind != Spec::Kind::Glob) {
    request.install.push_back({spec.text, ids});
    return;
  }
  std::map<std::string, std::vector<PackageId>> by_name;
  for (const PackageId id : ids)
    if (universe.is_installed(id) || universe.offered(id)) by_name[std::string(universe.name(id))].push_back(id);
  for (const auto& [name, versions] : by_name) request.install.push_back({name, versions});
}

}  // namespace

int run_install(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  session.root().add_files(specs);
  add_kept_for(session, specs);
  operations::ChangeRequest request = change_request(session, arguments, "install");
  for (const Spec& spec : specs) add_install(session, spec, request.solve);
  return carry_out(session, arguments, std::move(request));
}

int run_remove(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  std::vector<txn::ConfigFile> left;
  if (arguments.has("purge")) left = operations::leftovers_of(session.root());
  operations::ChangeRequest request = change_request(session, arguments, "remove");
  request.purge_also = arguments.words();  // some may be gone already
  solve::Names gone;                       // removed before: only what they left behind is meant
  for (const Spec& spec : specs) {
    const auto of_it = [&](const txn::ConfigFile& one) { return one.package.package.name == spec.text; };
    if (!session.universe().installed_of(spec.text) && std::any_of(left.begin(), left.end(), of_it))
      gone.insert(spec.text);
    else
      for (const std::string& name : operations::select_installed(session.root(), spec))
        request.solve.remove.insert(name);
  }
  if (!request.solve.remove.empty() || gone.empty()) return carry_out(session, arguments, std::move(request));
  std::erase_if(left, [&](const txn::ConfigFile& one) { return !gone.contains(one.package.package.name); });
  return carry_out(session, arguments, operations::propose_purge(session.root(), left, planned_terms(arguments)));
}

int run_upgrade(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "upgrade");
  request.solve.upgrade_all = specs.empty();
  request.solve.drop_strays = arguments.has("drop-strays");
  if (request.solve.drop_strays && !specs.empty())
    throw Error(ErrorCode::Usage, "--drop-strays is for the upgrade of everything", {}, "leave the names out");
  for (const Spec& spec : specs)
    for (const std::string& name : operations::select_installed(session.root(), spec))
      request.solve.upgrade.insert(name);
  for (const std::string& given : arguments.values("except"))
    for (const std::string& name : operations::select_installed(session.root(), parse_spec(given)))
      request.solve.except.insert(name);
  return carry_out(session, arguments, std::move(request));
}

int run_change(Session& session, const Arguments& arguments) {
  const auto install = parse_specs(arguments.values("install")), remove = parse_specs(arguments.values("remove")),
             upgrade = parse_specs(arguments.values("upgrade")), release = parse_specs(arguments.values("release"));
  if (install.empty() && remove.empty() && upgrade.empty())
    throw Error(ErrorCode::Usage, "nothing to change was named", {}, "`hambrel help change` shows examples");
  begin(session, arguments);
  session.root().add_files(install);
  add_kept_for(session, install);
  operations::ChangeRequest request = change_request(session, arguments, "change");
  for (const Spec& spec : install) add_install(session, spec, request.solve);
  for (const Spec& spec : remove)
    for (const std::string& name : operations::select_installed(session.root(), spec))
      request.solve.remove.insert(name);
  for (const Spec& spec : upgrade)
    for (const std::string& name : operations::select_installed(session.root(), spec))
      request.solve.upgrade.insert(name);
  for (const Spec& spec : release)
    for (const std::string& name : operations::select_installed(session.root(), spec))
      request.solve.release.insert(name);
  return carry_out(session, arguments, std::move(request));
}

namespace {

int run_mark(Session& session, const Arguments& arguments, plan::Action action,
             std::optional<std::int64_t> until = {}) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  operations::MarkRequest request;
  request.action = action;
  request.until = until;
  if (const auto reason = arguments.value("reason")) request.reason = printable(*reason);
  request.end = end_of(arguments);
  for (const Spec& spec : specs) request.names.merge(operations::select_installed(session.root(), spec));
  auto proposal = operations::propose(session.root(), request);
  if (proposal->plan().empty()) return show_nothing(session, proposal->plan());
  return carry_out(session, arguments, std::move(proposal));
}

}  // namespace

int run_hold(Session& session, const Arguments& arguments) {
  std::optional<std::int64_t> until;
  if (const auto given = arguments.value("until")) {
    const auto date = parse_date(*given);
    if (!date || *date <= os::now())
      throw Error(ErrorCode::Usage, fmt::format("--until {}: a date to come was expected", printable(*given)), {},
                  "for example --until 2030-01-31; the hold ends when that day (UTC) begins");
    until = *date;
  }
  return run_mark(session, arguments, plan::Action::Hold, until);
}

int run_release(Session& session, const Arguments& arguments) {
  return run_mark(session, arguments, plan::Action::Release);
}
int run_want(Session& session, const Arguments& arguments) { return run_mark(session, arguments, plan::Action::Want); }
int run_unwant(Session& session, const Arguments& arguments) {
  return run_mark(session, arguments, plan::Action::Unwant);
}

}  // namespace hambrel::cli
