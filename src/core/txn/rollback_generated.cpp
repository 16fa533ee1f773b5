#include "txn/rollback_generated.h"

#include <algorithm>
#include <map>
#include <set>

#include "txn/extra_puts.h"

namespace hambrel::txn {

using state::Generated;
using state::TxnId;

namespace {

class Restoring {
 public:
  Restoring(os::FileSystem& root, const state::State& state, const Kept& kept, Planned& planned)
      : root_(root), state_(state), kept_(kept), planned_(planned), puts_(root, planned.tree) {}

  void run(TxnId to) {
    std::map<std::string, std::optional<Generated>> then;  // by path, as it was after `to`
    for (std::int64_t id = number(to) + 1; id < number(state_.next_id()); ++id)
      for (const state::GeneratedChange& one : state_.generated_changes_of(TxnId{id}))
        then.emplace(one.path, one.before);
    for (const auto& [path, made] : then) {
      const auto now = state_.generated_at(path);
      // links to candidates are planned anew
      if ((made ? made : now) && (made ? *made : *now).program == state::kCandidates) continue;
      if (made && made->by_trigger) continue;  // it runs again where what it watches changes
      if (made)
        comes(path, *made, now);
      else if (now)
        goes(path, *now);
    }
    for (const std::string& path : going_)
      if (is_top(path)) puts_.remove(path);
    planned_.restores_data = true;
  }

 private:
  bool is_as(const std::string& path, const Generated& one) {
    const auto here = root_.stat(path);
    if (!here) return false;
    switch (one.entry.type) {
      case EntryType::Directory: return here->type == os::FileType::Directory;
      case EntryType::Symlink: return here->type == os::FileType::Symlink && root_.read_link(path) == one.entry.target;
      case EntryType::HardLink:
      case EntryType::File:
        return here->type == os::FileType::Regular && here->size == one.entry.size &&
               root_.digest(path) == one.entry.digest;
    }
    return false;
  }

  void record(const std::string& path, const std::optional<Generated>& before, const std::optional<Generated>& after) {
    if (before && after && text_of(*before) == text_of(*after)) return;
    std::erase_if(planned_.generated, [&](const state::GeneratedChange& one) { return one.path == path; });
    planned_.generated.push_back({path, before, after});
  }

  void comes(const std::string& path, const Generated& made, const std::optional<Generated>& now) {
    record(path, now, made);
    if (is_as(path, made) || puts_.at(path) != nullptr) return;
    const auto here = root_.stat(path);
    if (here && here->type == os::FileType::Directory) return;  // it is something else by now
    FileEntry entry = made.entry;
    if (entry.type != EntryType::File) {
      puts_.add(entry);
      return;
    }
    const auto place = kept_.find_content(path, entry.digest);
    if (!place) {
      planned_.tree.notices.push_back({plan::Notice::Kind::Lost, path, made.package});
      return;
    }
    entry.mtime = root_.stat_present(*place).mtime_seconds;
    entry.config = true;  // a copy, not another name of what lies in the attic: it is written to where it stands
    puts_.add(entry).own_rest().kept = *place;
  }

  /// Nobody had made it then. What was changed since by others is theirs.
  void goes(const std::string& path, const Generated& now) {
    record(path, now, std::nullopt);
    if (is_as(path, now) && puts_.at(path) == nullptr) going_.insert(path);
  }

  /// Does it go by itself, and not with a directory that goes as a whole?
  bool is_top(const std::string& path) {
    if (root_.stat_present(path).type == os::FileType::Directory && !goes_whole(path)) return false;
    const std::string above(os::parent_of(path));
    return !going_.contains(above) || !goes_whole(above);
  }

  bool goes_whole(const std::string& directory) {
    const auto names = root_.list(directory);
    return std::all_of(names.begin(), names.end(), [&](const std::string& name) {
      const std::string path = os::join_path(directory, name);
      if (!going_.contains(path)) return false;
      return root_.stat_present(path).type != os::FileType::Directory || goes_whole(path);
    });
  }

  os::FileSystem& root_;
  const state::State& state_;
  const Kept& kept_;
  Planned& planned_;
  ExtraPuts puts_;
  std::set<std::string> going_;
};

}  // namespace

void restore_generated(os::FileSystem& root, const state::State& state, TxnId to, const Kept& kept, Planned& planned) {
  Restoring(root, state, kept, planned).run(to);
}

}  // namespace hambrel::txn
