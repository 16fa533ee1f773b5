#include "txn/settle.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "base/merge.h"

namespace hambrel::txn {

using os::FileType;
using plan::ConfigAction;
using state::MoveKind;

namespace {

class Settling {
 public:
  Settling(os::FileReader& root, const Choices& choices) : root_(root), homes_(root), choices_(choices) {}

  Planned run(const std::vector<ConfigFile>& files, const FileOf& file_of) {
    result_.plan.kind = "settle";
    for (const ConfigFile& file : files)
      if (const auto choice = choices_.find(file.path); choice != choices_.end()) settle(file, choice->second);
    auto& tree = result_.tree;
    std::sort(tree.puts.begin(), tree.puts.end(),
              [](const Put& a, const Put& b) { return a.entry.path() < b.entry.path(); });
    for (const Put& put : tree.puts) tree.staged_bytes += put.entry.size();
    std::stable_sort(tree.moves.begin(), tree.moves.end(), [](const PlannedMove& a, const PlannedMove& b) {
      return a.kind != MoveKind::Remove && b.kind == MoveKind::Remove;
    });
    std::vector<const state::StatePackage*> from;
    for (const auto& one : packages_) from.push_back(&one);
    HAMBREL_ASSERT(from.size() == result_.sources.size(), "each package has its source");
    source_missing_content(result_, from, file_of);
    require_feasible(root_, tree);
    result_.tell_of_files();
    return std::move(result_);
  }

 private:
  void settle(const ConfigFile& file, const Choice& choice) {
    const auto refuse = [&](const std::string& what, const std::string& hint) {
      throw Error(ErrorCode::Refused, what, "/" + file.path, hint);
    };
    const std::string& package = file.package.package.name;
    if (file.state == ConfigState::Leftover)
      refuse(fmt::format("is a leftover of {}, so there is no new version to settle", package),
             fmt::format("`hambrel remove --purge {}` removes its leftovers", package));
    const auto here = root_.stat(file.path);
    if (here && here->type == FileType::Directory)
      refuse("is a directory here, not a file", "move it away, then run the command again");
    plan::ConfigStep step{choice.action, file.path, package};
    if (here && here->type == FileType::Regular) step.before = root_.digest(file.path);
    step.after = step.before;
    FileEntry entry = file.entry;
    switch (choice.action) {
      case ConfigAction::Keep:
        if (file.state != ConfigState::Waiting)
          refuse("no new version is waiting, so it is kept anyway", "`hambrel configs` shows what is waiting");
        break;
      case ConfigAction::Take: {
        if (file.state == ConfigState::Pristine)
          refuse(fmt::format("is already {}'s version", package), "`hambrel configs` shows what is edited");
        step.after = entry.digest;
        place(file, entry, here.has_value());
        Put& put = result_.tree.puts.back();
        const std::string waiting = waiting_place(file.path);
        if (const auto kept = find_pristine(root_, entry.digest))
          put.own_rest().kept = *kept;
        else if (root_.stat(waiting) && root_.digest(waiting) == entry.digest)
          put.own_rest().kept = waiting;
        break;
      }
      case ConfigAction::Merge:
      case ConfigAction::Edit:
        entry.size = choice.content.size();
        step.after = entry.digest = sha256(choice.content);
        if (here && here->type == FileType::Regular) {
          entry.mode = here->mode;
          entry.user = std::to_string(here->uid);
          entry.group = std::to_string(here->gid);
          entry.attributes = own_attributes(root_, file.path);
        }
        place(file, entry, here.has_value());
        result_.tree.puts.back().own_rest().content = choice.content;
        break;
      default: return;
    }
    for (const std::string& aside : {waiting_place(file.path), base_place(file.path)})
      if (root_.stat(aside)) result_.tree.moves.push_back({MoveKind::Remove, aside, homes_.of(aside)});
    result_.tree.configs.push_back(std::move(step));
  }

  void place(const ConfigFile& file, const FileEntry& entry, bool stands) {
    if (!root_.stat_followed(os::parent_of(file.path)))
      throw Error(ErrorCode::Refused, "its directory is missing", "/" + file.path,
                  fmt::format("`hambrel repair {}` restores directories", file.package.package.name));
    std::size_t package = 0;
    while (package < packages_.size() && packages_[package].row != file.package.row) ++package;
    if (package == packages_.size()) {
      packages_.push_back(file.package);
      result_.sources.push_back({file.package.package, nullptr});
    }
    HAMBREL_ASSERT(package < result_.sources.size() && entry.path == file.path, "it is put where it stands");
    result_.tree.puts.push_back({entry, package, {}, homes_.of(file.path)});
    result_.tree.moves.push_back({stands ? MoveKind::Exchange : MoveKind::Place, file.path, homes_.of(file.path)});
  }

  os::FileReader& root_;
  StagingHomes homes_;
  const Choices& choices_;
  std::vector<state::StatePackage> packages_;  // by source
  Planned result_;
};

}  // namespace

Planned plan_settle(os::FileReader& root, const state::State& state, const std::vector<ConfigFile>& files,
                    const Choices& choices, const FileOf& file_of) {
  const state::State::ReadTransaction still(state);
  return Settling(root, choices).run(files, file_of);
}

std::optional<std::string> read_text(os::FileReader& root, const std::string& path) {
  constexpr std::uint64_t kMost = 4 << 20;
  const auto info = path.empty() ? std::nullopt : root.stat(path);
  if (!info || info->type != FileType::Regular || info->size > kMost) return std::nullopt;
  std::string text = root.read_itself(path, kMost);
  return is_text(text) ? std::optional(std::move(text)) : std::nullopt;
}

ConfigTexts texts_of(os::FileReader& root, const ConfigFile& file) {
  ConfigTexts texts;
  const std::string waiting = waiting_place(file.path), base = base_place(file.path);
  texts.mine = read_text(root, file.path);
  const auto pristine = find_pristine(root, file.entry.digest);
  const bool waits = root.stat(waiting).has_value();
  texts.theirs = read_text(root, waits ? waiting : pristine.value_or(""));
  const std::string otherwise = waits ? "" : pristine.value_or("");
  texts.base = read_text(root, root.stat(base) ? base : otherwise);
  return texts;
}

}  // namespace hambrel::txn
