#include "operations/account_files.h"

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "os/host.h"
#include "rehearsal/accounts.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kMost = 16 << 20;  // bytes of one of these files

class AccountPuts {
 public:
  AccountPuts(Root& root, txn::Planned& planned, const std::function<std::string(const txn::Put&)>& content_of)
      : files_(root.files()), planned_(planned), content_of_(content_of) {}

  rehearsal::AccountTexts read() {
    rehearsal::AccountTexts texts;
    for (const char* const path : rehearsal::kAccountFiles) {
      if (const txn::Put* const put = put_at(path)) {
        texts.emplace(path, content_of(*put));
        continue;
      }
      const auto info = files_.stat(path);
      if (!info) continue;
      if (info->type != os::FileType::Regular)
        throw Error(ErrorCode::Refused, "is not a regular file, and accounts are to be added to it", files_.shown(path),
                    "put a regular file there, then run the command again");
      texts.emplace(path, files_.read_itself(path, kMost));
    }
    return texts;
  }

  void write(const std::string& path, const std::string& before, const std::string& text) {
    if (text == before) return;
    txn::Put* put = put_at(path);
    if (put == nullptr) put = &add(path, before);
    put->content = text;
    put->kept.clear();
    put->entry.size = text.size();
    put->entry.digest = sha256(text);
    planned_.tree.staged_bytes += text.size();
  }

 private:
  txn::Put* put_at(std::string_view path) {
    auto& puts = planned_.tree.puts;
    const auto found =
        std::lower_bound(puts.begin(), puts.end(), path,
                         [](const txn::Put& one, std::string_view wanted) { return one.entry.path < wanted; });
    const bool there = found != puts.end() && found->entry.path == path && found->entry.type == EntryType::File;
    return there ? &*found : nullptr;
  }

  std::string content_of(const txn::Put& put) {
    if (put.content) return *put.content;
    return put.kept.empty() ? content_of_(put) : files_.read_itself(put.kept, kMost);
  }

  /// The file as it is, about to be replaced; or a new one.
  txn::Put& add(const std::string& path, const std::string& before) {
    constexpr std::uint32_t kOpen = 0644, kSecret = 0640;
    txn::StagingHomes homes(files_);
    const auto info = files_.stat(path);
    txn::Put put{{}, txn::Put::npos, {}, homes.of(path)};
    put.entry.path = path;
    put.entry.mode = info ? info->mode : path.ends_with("shadow") ? kSecret : kOpen;
    if (info) {
      put.entry.user = std::to_string(info->uid);
      put.entry.group = std::to_string(info->gid);
      put.entry.attributes = txn::own_attributes(files_, path);
      planned_.read.emplace(path, sha256(before));
    }
    add_directory(path, homes);
    if (!comes_with_directory(path))
      planned_.tree.moves.insert(planned_.tree.moves.begin(),
                                 {info ? state::MoveKind::Exchange : state::MoveKind::Place, path, put.home});
    return insert(std::move(put));
  }

  /// Where there is no etc yet, and nobody brings it.
  void add_directory(const std::string& path, txn::StagingHomes& homes) {
    const std::string parent(os::parent_of(path));
    const auto& puts = planned_.tree.puts;
    const bool coming =
        std::any_of(puts.begin(), puts.end(), [&](const auto& one) { return one.entry.path == parent; });
    if (coming || files_.stat_followed(parent)) return;
    txn::Put put{{}, txn::Put::npos, {}, homes.of(parent)};
    put.entry.path = parent;
    put.entry.type = EntryType::Directory;
    put.entry.mode = 0755;
    planned_.tree.moves.insert(planned_.tree.moves.begin(), {state::MoveKind::Place, parent, put.home});
    insert(std::move(put));
  }

  bool comes_with_directory(const std::string& path) const {
    const auto parent = os::parent_of(path);
    return std::any_of(planned_.tree.puts.begin(), planned_.tree.puts.end(), [&](const txn::Put& one) {
      return one.entry.path == parent && one.entry.type == EntryType::Directory && !files_.stat_followed(parent);
    });
  }

  txn::Put& insert(txn::Put put) {
    auto& puts = planned_.tree.puts;
    const auto at =
        std::lower_bound(puts.begin(), puts.end(), put.entry.path,
                         [](const txn::Put& one, const std::string& path) { return one.entry.path < path; });
    return *puts.insert(at, std::move(put));
  }

  os::FileSystem& files_;
  txn::Planned& planned_;
  const std::function<std::string(const txn::Put&)>& content_of_;
};

}  // namespace

void add_accounts(Root& root, txn::Planned& planned,
                  const std::vector<std::pair<const Account*, std::string>>& accounts,
                  const std::function<std::string(const txn::Put&)>& content_of) {
  if (accounts.empty()) return;
  constexpr std::int64_t kDay = 86400;  // seconds
  AccountPuts puts(root, planned, content_of);
  const rehearsal::AccountTexts before = puts.read();
  const auto& [lowest, highest] = root.settings().account_ids;
  rehearsal::AccountBook book(before, lowest, highest, os::now() / kDay);
  book.require(accounts);
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
