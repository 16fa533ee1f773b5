// follow: the channel that a package follows.
#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/follow.h"
#include "model/relation.h"
#include "operations/channels.h"

namespace hambrel::cli {

namespace {

bool may_ask(const Session& session, const Arguments& arguments) {
  return !session.json() && !arguments.has("yes") && !arguments.has("dry-run") && !arguments.has("save") && can_ask();
}

std::string told(const Universe& universe, const operations::ChannelVersion& one, const std::string& channel) {
  return fmt::format("{}: {} {}, {} than the installed {}", universe.name(one.offered),
                     channel.empty() ? "the channels of its repository have" : channel + " has",
                     universe.version(one.offered), one.is_older ? "older" : "newer", universe.version(one.installed));
}

/// Whether the versions of the channel come with it: as an option says, or as is answered. Else it is said how.
bool come_with_it(Session& session, const Arguments& arguments, const Universe& universe,
                  const std::vector<operations::ChannelVersion>& versions, const std::string& channel) {
  if (arguments.has("now") && arguments.has("later"))
    throw Error(ErrorCode::Usage, "--now and --later contradict each other", {}, "leave out one of them");
  if (versions.empty() || arguments.has("later")) return false;
  if (arguments.has("now")) return true;
  std::vector<std::string> sentences;
  for (const auto& one : versions) sentences.push_back(told(universe, one, channel));
  if (!may_ask(session, arguments)) {
    for (const std::string& one : sentences) session.progress().note(one + "; --now changes to it");
    return false;
  }
  for (const std::string& one : sentences) session.screen().line(printable(one) + ".");
  const bool come = is_yes(session, versions.size() == 1 ? "Change to it now, too?" : "Change to them now, too?");
  session.screen().line();
  return come;
}

}  // namespace

int run_follow(Session& session, const Arguments& arguments) {
  std::vector<std::string> words = arguments.words();
  std::string channel;
  if (!arguments.has("default")) {
    if (words.size() < 2)
      throw Error(ErrorCode::Usage, "follow needs a package and a channel", {},
                  fmt::format("for example hambrel follow {} beta, or hambrel follow {} --default", words.front(),
                              words.front()));
    channel = words.back();
    words.pop_back();
    if (!is_package_name(channel))
      throw Error(ErrorCode::Usage, fmt::format("\"{}\" is no channel", printable(channel)), {},
                  "`hambrel describe NAME` shows the channels of a package");
  }
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "follow");
  const auto versions = operations::ask_to_follow(session.root(), words, channel, request);
  const Universe& universe = session.root().universe();
  if (come_with_it(session, arguments, universe, versions, channel)) operations::bring(universe, versions, request);
  return carry_out(session, arguments, std::move(request));
}

void follow_what_is_named(const Arguments& arguments, operations::Root& root, operations::ChangeRequest& request) {
  if (arguments.has("follow") && arguments.has("no-follow"))
    throw Error(ErrorCode::Usage, "--follow and --no-follow contradict each other", {}, "leave out one of them");
  if (arguments.has("no-follow")) return;
  for (auto& one : operations::unfollowed(root, arguments.words())) {
    if (arguments.has("follow")) {
      operations::ask_to_follow(root, {one.name}, one.after, request);
      continue;
    }
    request.may_follow.push_back(std::move(one));
  }
}

}  // namespace hambrel::cli
