#include "operations/downgrading.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "operations/select.h"
#include "repo/download.h"

namespace hambrel::operations {

namespace {

/// The one installed package that the spec names.
PackageId installed_one(Root& root, const Spec& spec) {
  Spec name = spec;
  if (name.kind == Spec::Kind::Name) {
    name.constraint.op = Operator::Any;
    name.text = name.constraint.name;
  }
  const solve::Names names = select_installed(root, name);
  if (names.size() > 1)
    throw Error(ErrorCode::Usage, fmt::format("{} matches {} packages", printable(spec.text), names.size()), {},
                "name one package to downgrade");
  const Universe& universe = root.universe();
  const std::string& arch = root.options().architecture;
  for (const PackageId id : universe.installed())
    if (names.contains(universe.name(id)) && (arch.empty() || universe.architecture(id) == arch)) return id;
  throw Error(ErrorCode::Refused, fmt::format("{} is not installed for {}", printable(spec.text), arch), {},
              "`hambrel list` shows what is installed");
}

std::vector<OlderVersion> all_older(Root& root, PackageId installed) {
  const Universe& universe = root.universe();
  std::map<std::string, std::int64_t> times;  // by version
  for (const state::Replaced& one : root.state()->replaced())
    if (one.package.package.name == universe.name(installed))
      times.emplace(one.package.package.version.text(), one.package.time);
  std::vector<OlderVersion> versions;
  for (const PackageId id : universe.slot(installed)) {
    const Candidate& one = universe[id];
    if (one.offers.empty() || !(one.package.version < universe.package(installed).version)) continue;
    OlderVersion version{id, one.offers.front().title(), one.offers.front().size, 0};
    if (root.kept(id) != nullptr) {
      version.fetch = 0;
    } else if (repo::in_cache(root.files(), one.package, one.offers.front())) {
      version.where = "cache";
      version.fetch = 0;
    }
    for (const Offer& offer : one.offers)
      if (offer.title() != one.offers.front().title()) version.where += ", " + offer.title();
    if (const auto time = times.find(one.package.version.text()); time != times.end()) version.here = time->second;
    versions.push_back(std::move(version));
  }
  return versions;
}

}  // namespace

OlderVersions older_versions(Root& root, const Spec& spec) {
  if (spec.kind != Spec::Kind::Name && spec.kind != Spec::Kind::Path)
    throw Error(ErrorCode::Usage,
                fmt::format("only one installed package can be downgraded, not {}", printable(spec.text)), {},
                "for example hambrel downgrade lampdesk, or lampdesk=5.4");
  require_state(root);
  root.add_kept();
  OlderVersions older;
  older.installed = installed_one(root, spec);
  const Universe& universe = root.universe();
  const auto all = all_older(root, older.installed);
  if (all.empty())
    throw Error(ErrorCode::Refused,
                fmt::format("no version of {} older than {} is available", universe.name(older.installed),
                            universe.version(older.installed)),
                {}, "neither the attic nor the cache holds one, and no enabled repository offers one");
  older.named = spec.kind == Spec::Kind::Name && spec.constraint.op != Operator::Any;
  std::vector<std::string> there;
  for (const OlderVersion& one : all) {
    there.push_back(fmt::format("{} ({})", universe.version(one.id), one.where));
    if (!older.named || version_allowed(spec.constraint.op, spec.constraint.version.text(), universe.version(one.id)))
      older.all.push_back(one);
  }
  if (older.all.empty())
    throw Error(ErrorCode::Refused,
                fmt::format("no version of {} older than {} is {}", universe.name(older.installed),
                            universe.version(older.installed), spec.constraint.text()),
                {}, "available versions: " + join(there, ", "));
  return older;
}

ChangeRequest downgrade_to(Root& root, PackageId version, ChangeRequest request, std::optional<Hold> hold) {
  const Universe& universe = root.universe();
  request.kind = "downgrade";
  request.hold = std::move(hold);
  request.solve.install.push_back({fmt::format("{}={}", universe.name(version), universe.version(version)), {version}});
  return request;
}

}  // namespace hambrel::operations
