#include "operations/account_files.h"

#include "base/error.h"
#include "os/host.h"
#include "rehearsal/accounts.h"
#include "txn/extra_puts.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kMost = 16 << 20;  // bytes of one of these files

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
      texts.emplace(path, files_.read_itself(path, kMost));
    }
    return texts;
  }

  void write(const std::string& path, const std::string& before, const std::string& text) {
    if (text == before) return;
    txn::Put* put = puts_.at(path);
    if (put == nullptr) put = &add(path, before);
    put->content = text;
    put->kept.clear();
    put->entry.size = text.size();
    put->entry.digest = sha256(text);
    planned_.tree.staged_bytes += text.size();
  }

 private:
  std::string content_of(const txn::Put& put) {
    if (put.content) return *put.content;
    return put.kept.empty() ? content_of_(put) : files_.read_itself(put.kept, kMost);
  }

  /// The file as it is, about to be replaced; or a new one.
  txn::Put& add(const std::string& path, const std::string& before) {
    constexpr std::uint32_t kOpen = 0644, kSecret = 0640;
    const auto info = files_.stat(path);
    FileEntry entry;
    entry.path = path;
    entry.mode = info ? info->mode : path.ends_with("shadow") ? kSecret : kOpen;
    if (info) {
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
