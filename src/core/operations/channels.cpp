#include "operations/channels.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "operations/select.h"

namespace hambrel::operations {

namespace {

/// Names that a spec means, installed or not.
solve::Names names_of(Root& root, const Spec& spec) {
  if (spec.kind != Spec::Kind::Name && spec.kind != Spec::Kind::Glob)
    throw Error(ErrorCode::Usage, fmt::format("{} is no name of a package", printable(spec.text)), {},
                "for example: hambrel follow lampdesk beta");
  if (spec.kind == Spec::Kind::Glob) return select_installed(root, spec);
  if (spec.constraint.op != Operator::Any)
    throw Error(ErrorCode::Usage, fmt::format("{}: a package follows a channel, not a version", printable(spec.text)),
                {}, fmt::format("leave out the version; `hambrel hold {}` keeps one", spec.constraint.name));
  select(root, spec);  // says what is wrong with a name that nobody has
  return {spec.constraint.name};
}

/// Channels of enabled repositories that have a package, in their order.
std::set<std::string> channels_of(const Universe& universe, std::string_view name) {
  std::set<std::string> channels;
  for (const PackageId id : universe.versions_of(name))
    for (const Offer& offer : universe[id].offers)
      if (offer.enabled && !offer.channel.empty()) channels.insert(offer.channel);
  return channels;
}

void require_channel(const Universe& universe, const std::string& name, const std::string& channel) {
  const auto channels = channels_of(universe, name);
  if (channel.empty() || channels.contains(channel)) return;
  throw Error(ErrorCode::Refused, fmt::format("no repository has {} in channel {}", name, printable(channel)), {},
              channels.empty() ? "`hambrel repo list` shows the repositories"
                               : "it is in: " + join({channels.begin(), channels.end()}, ", "));
}

std::string followed(Root& root, const std::string& name) {
  if (root.state() == nullptr) return {};
  const auto follows = root.state()->follows();
  const auto found = follows.find(name);
  return found == follows.end() ? "" : found->second;
}

}  // namespace

std::vector<ChannelVersion> ask_to_follow(Root& root, const std::vector<std::string>& specs, const std::string& channel,
                                          ChangeRequest& request) {
  solve::Names names;
  for (const Spec& spec : parse_specs(specs)) names.merge(names_of(root, spec));
  const auto& written = root.settings().follow;
  for (const std::string& name : names) {
    if (const auto found = written.find(name); found != written.end() && found->second != channel)
      throw Error(ErrorCode::Refused, fmt::format("hambrel.toml has {} follow {}", name, found->second),
                  "/etc/hambrel/hambrel.toml", "change or remove it there, below [follow]");
    require_channel(root.universe(), name, channel);
  }
  for (const std::string& name : names) {
    const std::string before = followed(root, name);
    if (before != channel) request.follows.push_back({name, before, channel});
    if (!channel.empty()) request.solve.channels.insert(channel);  // what comes from there may need more from there
    root.see_following(name, channel);
  }
  const Universe& universe = root.universe();
  std::vector<ChannelVersion> versions;
  for (const PackageId installed : universe.installed()) {
    if (!names.contains(universe.name(installed))) continue;
    ChannelVersion newest{installed, installed, false};
    bool found = false;
    for (const PackageId id : universe.slot(installed)) {
      if (!universe.offered(id)) continue;
      if (!found || universe.package(newest.offered).version < universe.package(id).version) newest.offered = id;
      found = true;
    }
    const auto& now = universe.package(installed).version;
    const auto& then = universe.package(newest.offered).version;
    if (!found || newest.offered == installed || now == then) continue;
    newest.is_older = then < now;
    versions.push_back(newest);
  }
  return versions;
}

void bring(const Universe& universe, const std::vector<ChannelVersion>& versions, ChangeRequest& request) {
  for (const ChannelVersion& one : versions)
    request.solve.install.push_back(
        {fmt::format("{}={}", universe.name(one.offered), universe.version(one.offered)), {one.offered}});
}

std::vector<state::FollowChange> unfollowed(Root& root, const std::vector<std::string>& specs) {
  std::vector<state::FollowChange> result;
  for (const Spec& spec : parse_specs(specs)) {
    if (spec.kind != Spec::Kind::Channel) continue;
    const std::string& name = spec.constraint.name;
    const auto& written = root.settings().follow;
    const Universe& universe = root.universe();
    const std::string before = followed(root, name);
    if (written.contains(name) || before == spec.channel) continue;
    if (!channels_of(universe, name).contains(spec.channel)) continue;
    const auto versions = universe.versions_of(name);
    const bool is_seen = std::any_of(versions.begin(), versions.end(), [&](PackageId id) {
      const auto offers = universe[id].offers;
      return std::any_of(offers.begin(), offers.end(), [&](const Offer& offer) {
        return offer.enabled && offer.followed && offer.channel == spec.channel;
      });
    });
    if (!is_seen) result.push_back({name, before, spec.channel});
  }
  return result;
}

}  // namespace hambrel::operations
