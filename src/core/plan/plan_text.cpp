// The words of a plan: what is done, why, and what is worth knowing.
#include <fmt/format.h>

#include "base/text.h"
#include "plan/plan.h"

namespace hambrel::plan {

std::string_view text_of(Action action) {
  switch (action) {
    case Action::Install: return "install";
    case Action::Upgrade: return "upgrade";
    case Action::Downgrade: return "downgrade";
    case Action::Remove: return "remove";
    case Action::Repair: return "repair";
    case Action::Shelve: return "shelve";
    case Action::Unshelve: return "unshelve";
    case Action::Want: return "want";
    case Action::Unwant: return "unwant";
    case Action::Hold: return "hold";
    case Action::Release: return "release";
  }
  return "";
}

std::string Why::text() const {
  switch (kind) {
    case WhyKind::Asked: return "asked for";
    case WhyKind::Required: return fmt::format("{} requires {}", by, relation);
    case WhyKind::Recommended: return fmt::format("{} recommends {}", by, relation);
    case WhyKind::Newer: return "newer version";
    case WhyKind::Replacing: return fmt::format("replaces {}", by);
    case WhyKind::ReplacedBy: return fmt::format("replaced by {}", by);
    case WhyKind::LosesProvider: return fmt::format("requires {}, which is being removed", relation);
    case WhyKind::InConflict: return fmt::format("conflicts with {}", by);
    case WhyKind::Unneeded: return "no longer needed";
    case WhyKind::MakesRoom: return fmt::format("makes room for {}", by);
    case WhyKind::Stray: return "wanted, but in the way, and no repository offers it any more";
    case WhyKind::Undone: return fmt::format("undoes transaction {}", by);
    case WhyKind::Damaged: return fmt::format("{} of its files damaged", by);
    case WhyKind::RolledBack: return fmt::format("as after transaction {}", by);
    case WhyKind::OldInConflict: return fmt::format("{} conflicts with {}", by, relation);
  }
  return {};
}

std::string_view text_of(ConfigAction action) {
  switch (action) {
    case ConfigAction::Keep: return "keep";
    case ConfigAction::Take: return "take";
    case ConfigAction::Merge: return "merge";
    case ConfigAction::Edit: return "edit";
    case ConfigAction::Wait: return "wait";
    case ConfigAction::Carry: return "carry";
    case ConfigAction::Purge: return "purge";
    case ConfigAction::Restore: return "restore";
    case ConfigAction::Ask: return "ask";
  }
  return "";
}

std::string Run::why_text() const {
  std::string text = why;
  if (kind == Kind::Hook && why.empty()) {
    const char* happens = "is removed";
    if (occasion == "install") happens = "is installed";
    if (occasion == "upgrade") happens = "is upgraded";
    if (occasion == "downgrade") happens = "goes back to an older version";
    text = fmt::format("{} {}{}", package, happens, before ? "; runs on the system as it is now" : "");
    if (is_new) text += "; the installed version has no hooks";
  }
  if (writes.empty()) return text + "; may write nothing";
  std::vector<std::string> paths;
  for (const std::string& one : writes) paths.push_back("/" + one);
  return fmt::format("{}; may write {}", text, some_of(paths, 4));
}

std::string AskStep::from_text() const {
  switch (from) {
    case From::Open: return "is asked first";
    case From::Asked: return "you answered";
    case From::Given: return "by --answers";
    case From::Settings: return "by hambrel.toml";
    case From::Kept: return "you answered earlier";
    case From::Default: return "the default of the package";
  }
  return "";
}

std::string_view text_of(ServiceStep::Kind kind) {
  constexpr std::array<std::string_view, 6> kTexts{"enable", "disable", "stop", "start", "restart", "reload"};
  return kTexts[static_cast<std::size_t>(kind)];
}

std::string ServiceStep::text() const {
  std::string text;
  switch (kind) {
    case Kind::Enable: return "starts with the system from then on";
    case Kind::Disable: return "does not start with the system any more";
    case Kind::Stop: text = "before the switch"; break;
    case Kind::Start: text = "after the switch"; break;
    case Kind::Restart:
      text = stopped_before ? "stopped before the switch, started after it" : "after the switch";
      if (rehearsal > 0)
        text = fmt::format("stopped before the hook of {} runs, which may take {} s; started after the switch", package,
                           rehearsal);
      break;
    case Kind::Reload: text = "reads its configuration again after the switch"; break;
  }
  if (!occasion.empty()) text += fmt::format("; {} {}", package, occasion);
  if (!check.empty()) text += fmt::format("; healthy if {} returns 0 within {} s", join(check, " "), check_seconds);
  return text;
}

std::string ConfigStep::text() const {
  const std::string moved = from.empty() ? "" : fmt::format("moved here from /{}; ", from);
  switch (action) {
    case ConfigAction::Keep: return moved + "your version stays; the package's is not used";
    case ConfigAction::Take:
      return moved + (before ? "the package's version; yours is moved to the attic" : "the package's version");
    case ConfigAction::Merge: return moved + "your changes and the new version's, combined";
    case ConfigAction::Edit: return moved + "as you wrote it";
    case ConfigAction::Wait: return moved + "you edited it: your version stays, the new one waits for your decision";
    case ConfigAction::Carry: return moved + "your version moves with it";
    case ConfigAction::Purge: return leftover ? "a leftover; moved to the attic" : "edited; moved to the attic, too";
    case ConfigAction::Restore:
      if (!after) return "did not exist then; moved to the attic";
      return before ? "as it was then; the present file is moved to the attic" : "as it was then";
    case ConfigAction::Ask: return moved + "you changed it, and so did the new version";
  }
  return {};
}

std::string Notice::text() const {
  switch (kind) {
    case Kind::ConfigKept: return fmt::format("/{} was edited: your version stays", path);
    case Kind::ConfigDisplaced:
      return fmt::format("/{} was edited, and {} now has a directory there: your version is moved to the attic", path,
                         package);
    case Kind::ConfigStaysAway: return fmt::format("/{}: you deleted it; it will not be restored", path);
    case Kind::Leftover:
      return fmt::format("/{} was edited and is kept; `hambrel remove --purge {}` removes it, too", path, package);
    case Kind::Unowned:
      return fmt::format("/{} is not owned by any package: it is moved to the attic, {} has its own", path, package);
    case Kind::DirectoryStays: return fmt::format("/{} stays: it contains files no package owns", path);
    case Kind::DirectoryLower:
      return fmt::format("/{} stays, empty: it is in a lower layer of an overlay, which cannot rename it", path);
    case Kind::Changed: return fmt::format("/{} was changed since: that version is moved to the attic", path);
    case Kind::Lost:
      return fmt::format("/{} of {} cannot be restored: it is not in the attic, the cache or a repository", path,
                         package);
    case Kind::GivenUp:
      return fmt::format(
          "{} {} will no longer be undoable; going back to before {} will need the cache or a "
          "repository",
          path == package ? "transaction" : "transactions", path, package);
    case Kind::ConfigUnknown:
      return fmt::format("what was at /{} then is no longer known: files were dropped from the attic since", path);
    case Kind::ConfigUnmerged: return fmt::format("/{} cannot be merged: {}; the new version waits", path, package);
    case Kind::OwnSettings: return fmt::format("/{} of {} is one of Hambrel's own settings", path, package);
    case Kind::OpenToAll:
      return fmt::format("/{} of {} is a directory in which any user can replace other users' files", path, package);
    case Kind::Unsigned:
      return path.find('/') != std::string::npos
                 ? fmt::format("nobody vouches for {} from {}, which is not signed", package, path)
                 : fmt::format("nobody vouches for what comes from {}, which is not verified: {}", path, package);
    case Kind::UnknownKey: return fmt::format("{} is signed with a key that is not known here: {}", path, package);
    case Kind::AccountStays: return fmt::format("/{} belongs to the account {}, which stays", path, package);
    case Kind::Signed: return fmt::format("{} is signed by {}", path, package);
    case Kind::Privileged:
      return fmt::format("/{} of {} runs with elevated privileges (set-user-ID, set-group-ID or capabilities)", path,
                         package);
  }
  return {};
}

std::string some_of(std::vector<std::string> names, std::size_t most) {
  const std::size_t more = names.size() > most ? names.size() - most : 0;
  names.resize(names.size() - more);
  return join(names, ", ") + (more > 0 ? fmt::format(" and {} more", more) : "");
}

std::string FollowStep::text() const {
  const auto told = [](const std::string& channel) {
    return channel.empty() ? "the channels of its repository" : channel;
  };
  return fmt::format("{} instead of {}", told(after), told(before));
}

}  // namespace hambrel::plan
