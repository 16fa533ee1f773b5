// Channels that single packages follow instead of those of their repository.
#pragma once

#include <string>
#include <vector>

#include "operations/change.h"

namespace hambrel::operations {

/// An installed package, and the newest version of the channel that it is to follow, another one.
struct ChannelVersion {
  PackageId installed{}, offered{};
  bool is_older = false;
};

/// Has packages follow a channel; empty: those of their repositories. Packages need not be installed. The root sees
/// them so from then on. Returns what the channel has for those that are installed.
/// Throws Error{Refused} where no repository has the package in this channel, or hambrel.toml says what it follows.
std::vector<ChannelVersion> ask_to_follow(Root& root, const std::vector<std::string>& specs, const std::string& channel,
                                          ChangeRequest& request);
/// And brings these versions in the same transaction.
void bring(const Universe& universe, const std::vector<ChannelVersion>& versions, ChangeRequest& request);

/// Of what is named as NAME@CHANNEL: what does not follow it.
std::vector<state::FollowChange> unfollowed(Root& root, const std::vector<std::string>& specs);

}  // namespace hambrel::operations
