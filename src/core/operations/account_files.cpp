#include "operations/account_files.h"

#include <algorithm>
#include <optional>
#include <set>

#include "base/error.h"
#include "os/host.h"
#include "rehearsal/accounts.h"
#include "txn/extra_puts.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kMostAccountBytes = 16 << 20;  // bytes of one of these files

class AccountPuts {
 public:
  AccountPuts(Root& root, txn::Planned& planned, const std::function<std::string(const txn::Put&)>& content_of)
      : files_(root.files()), planned_(planned), content_of_(content_of), puts_(root.files(), planned.tree) {}

  rehearsal::AccountTexts read() {
    rehearsal::AccountTexts texts;
    for (const char* const path : rehearsal::kAccountFiles) {
      if (const txn::Put* const put = puts_.at(path)) {
        texts.emplace(path, content_of(*put));
        continue;
      }
      const auto info = files_.stat(path);
      if (!info) continue;
      if (info->type != os::FileType::Regular)
        throw Error(ErrorCode::Refused, "is not a regular file, and accounts are to be added to it", files_.shown(path),
                    "put a regular file there, then run the command again");
      texts.emplace(path, files_.read_itself(path, kMostAccountBytes));
    }
    return texts;
  }

  void write(const std::string& path, const std::string& before, const std::string& text) {
    if (text == before) return;
    txn::Put* put = puts_.at(path);
    if (put == nullptr) put = &add(path, before);
    put->own_rest().content = text;
    put->own_rest().kept.clear();
    FileEntry entry = put->entry.whole();
    entry.size = text.size();
    entry.digest = sha256(text);
    put->entry = std::move(entry);
    planned_.tree.staged_bytes += text.size();
  }

 private:
  std::string content_of(const txn::Put& put) {
    if (put.rest().content) return *put.rest().content;
    return put.rest().kept.empty() ? content_of_(put) : files_.read_itself(put.rest().kept, kMostAccountBytes);
  }

  /// The file as it is, about to be replaced; or a new one.
  txn::Put& add(const std::string& path, const std::string& before) {
    constexpr std::uint32_t kOpen = 0644, kSecret = 0640;
    const auto info = files_.stat(path);
    FileEntry entry;
    entry.path = path;
    entry.mode = path.ends_with("shadow") ? kSecret : kOpen;
    if (info) {
      entry.mode = info->mode;
      entry.user = std::to_string(info->uid);
      entry.group = std::to_string(info->gid);
      entry.attributes = txn::own_attributes(files_, path);
      planned_.read.emplace(path, sha256(before));
    }
    return puts_.add(entry);
  }

  os::FileSystem& files_;
  txn::Planned& planned_;
  const std::function<std::string(const txn::Put&)>& content_of_;
  txn::ExtraPuts puts_;
};

}  // namespace

namespace {

/// An account that may go: files are a user's by its number or its group's.
struct Leaving {
  const Account* account;
  std::string package;
  std::optional<std::uint32_t> user{}, group{};
  std::string owns{};  // the first thing that was found; empty: nothing
};

/// Looks for something that belongs to one of these.
class Belongings {
 public:
  Belongings(Root& root, const txn::Planned& planned, std::vector<Leaving>& candidates)
      : files_(root.files()), observer_(root.observer()), candidates_(candidates) {
    for (const txn::PlannedMove& one : planned.tree.moves)
      if (one.kind == state::MoveKind::Remove) going_.insert(one.path.string());
  }

  void look() {
    observer_.begin("looking for files of accounts that go", 0, Observer::Unit::Items);
    const EndOfProgress end(observer_);
    if (const auto top = files_.stat_followed("")) look_below("", top->mount);
  }

 private:
  void look_below(const std::string& directory, std::uint64_t top) {
    const bool done =
        std::none_of(candidates_.begin(), candidates_.end(), [](const auto& one) { return one.owns.empty(); });
    if (done || going_.contains(directory)) return;
    const auto reader = files_.look_into(directory);
    if (reader == nullptr) return;
    for (const std::string& name : files_.list(directory)) {
      const std::string path = os::join_path(directory, name);
      const auto info = reader->stat(name);
      if (!info || going_.contains(path)) continue;
      for (Leaving& one : candidates_)
        if (one.owns.empty() && (one.user == info->uid || one.group == info->gid)) one.owns = path;
      // what is only made up has no owner that stays: /proc and the like lie on mounts of their own in the root itself
      const bool made_up = info->mount != top && (path == "proc" || path == "sys" || path == "dev" || path == "run");
      if (info->type == os::FileType::Directory && !made_up && path != kStateDirectory) look_below(path, top);
    }
  }

  os::FileSystem& files_;
  Observer& observer_;
  std::vector<Leaving>& candidates_;
  std::set<std::string> going_;
};

/// Names that transactions put into passwd or group, and that none took out again.
std::set<std::pair<std::string, std::string>> made_here(Root& root) {
  std::set<std::pair<std::string, std::string>> made;
  if (root.state() == nullptr) return made;
  for (const state::LineChange& one : root.state()->all_lines()) {
    const std::pair name(one.path, one.line.substr(0, one.line.find(':')));
    if (one.what == state::LineChange::What::Add) made.insert(name);
    if (one.what == state::LineChange::What::Drop) made.erase(name);
  }
  return made;
}

void drop_accounts(Root& root, txn::Planned& planned, rehearsal::AccountBook& book,
                   const std::vector<std::pair<const Account*, std::string>>& going) {
  const auto made = made_here(root);
  const auto users = book.users(), groups = book.groups();
  std::vector<Leaving> candidates;
  for (const auto& [account, package] : going) {
    Leaving one{account, package};
    if (const auto user = users.find(account->name); user != users.end() && !account->group_only)
      one.user = user->second;
    if (const auto group = groups.find(account->name); group != groups.end()) one.group = group->second;
    const char* const path = account->group_only ? "etc/group" : "etc/passwd";
    const bool there = account->group_only ? one.group.has_value() : one.user.has_value();
    if (there && made.contains({path, account->name})) candidates.push_back(std::move(one));
  }
  if (candidates.empty()) return;
  Belongings(root, planned, candidates).look();
  for (const Leaving& one : candidates)
    if (one.owns.empty())
      book.drop(*one.account, one.package);
    else
      planned.plan.notices.push_back({plan::Notice::Kind::AccountStays, one.owns, one.account->name});
}

}  // namespace

void add_accounts(Root& root, txn::Planned& planned,
                  const std::vector<std::pair<const Account*, std::string>>& accounts,
                  const std::vector<std::pair<const Account*, std::string>>& going,
                  const std::function<std::string(const txn::Put&)>& content_of) {
  if (accounts.empty() && going.empty()) return;
  constexpr std::int64_t kDay = 86400;  // seconds
  AccountPuts puts(root, planned, content_of);
  const rehearsal::AccountTexts before = puts.read();
  const auto& [lowest, highest] = root.settings().account_ids;
  rehearsal::AccountBook book(before, lowest, highest, os::now() / kDay);
  book.require(accounts);
  drop_accounts(root, planned, book, going);
  for (const auto& [path, text] : book.texts()) {
    const auto was = before.find(path);
    puts.write(path, was == before.end() ? std::string() : was->second, text);
  }
  planned.tree.users = book.users();
  planned.tree.groups = book.groups();
  planned.lines = book.changes();
  planned.plan.accounts = book.steps();
}

}  // namespace hambrel::operations
