#include "operations/content_here.h"

#include <algorithm>
#include <unordered_set>

#include "archive/frame_ranges.h"
#include "base/error.h"
#include "base/parallel.h"

namespace hambrel::operations {

namespace {

/// Frames of a table in which content of one of its files lies.
template <typename Do>
void for_each_frame(const archive::Contents& contents, std::size_t entry, Do&& visit) {
  for (const archive::NeededFrame& one : archive::needed_frames(contents, {&entry, 1})) visit(one.frame);
}

}  // namespace

void ContentHere::use(txn::TreeChange& tree, const std::vector<const archive::Contents*>& fetched, unsigned workers) {
  std::vector<std::vector<Wanted>> wanted(fetched.size());
  for (txn::Put& put : tree.puts) {
    if (put.package == txn::Put::npos || !put.is_unpacked() || put.entry.config() || put.entry.size() == 0) continue;
    const archive::Contents* const contents = fetched[put.package];
    if (contents == nullptr) continue;
    if (const auto number = contents->files().find(put.path_in_package()))
      wanted[put.package].push_back({&put, *number});
  }
  index_leaving(wanted);
  for (std::size_t i = 0; i < fetched.size(); ++i) {
    if (wanted[i].empty()) continue;
    find(wanted[i], workers);
    const archive::Contents& contents = *fetched[i];
    std::vector<bool> comes(contents.frames().size());  // whatever is here
    for (const Wanted& one : wanted[i])
      if (!one.is_here()) for_each_frame(contents, one.entry, [&](std::size_t frame) { comes[frame] = true; });
    for (const Wanted& one : wanted[i]) {
      bool all_come = true;
      for_each_frame(contents, one.entry, [&](std::size_t frame) { all_come = all_come && comes[frame]; });
      if (all_come) continue;
      one.put->own_rest().kept = one.kept;
      one.put->own_rest().same = one.same;
    }
  }
}

/// Where the content of each lies, if anywhere.
void ContentHere::find(std::vector<Wanted>& wanted, unsigned workers) {
  std::vector<std::string> to_read;
  for (Wanted& one : wanted) {
    const auto found = paths_.find(one.put->entry.digest());
    if (found == paths_.end()) continue;
    one.same = found->second.front();
    if (read_.emplace(one.same, std::nullopt).second) to_read.push_back(one.same);
  }
  std::vector<std::optional<Digest>> digests(to_read.size());
  in_portions(to_read.size(), workers, 8, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) {
      try {
        digests[i] = root_.digest(to_read[i]);
      } catch (const Error&) {  // it is gone, or something else: then it is fetched
      }
    }
  });
  for (std::size_t i = 0; i < to_read.size(); ++i) read_[to_read[i]] = digests[i];
  std::vector<std::pair<FileEntry, std::string>> others;
  for (Wanted& one : wanted) {
    if (!one.same.empty() && read_.at(one.same) != one.put->entry.digest()) one.same.clear();
    if (one.same.empty()) others.emplace_back(one.put->entry.whole(), one.put->home());
  }
  if (others.empty()) return;
  try {
    attics_->look_for(others, workers);
    for (Wanted& one : wanted)
      if (one.same.empty()) one.kept = attics_->find(one.put->entry.whole(), one.put->home()).value_or("");
  } catch (const Error&) {  // who only looks may not look there
  }
}

/// Of what leaves, the files with content that may be wanted: told by their sizes first, as there may be many.
void ContentHere::index_leaving(const std::vector<std::vector<Wanted>>& wanted) {
  constexpr std::int64_t kTransactions =
      8;  // what was put away earlier hardly comes again, and would take long to find
  paths_.clear();
  std::unordered_set<std::uint64_t> sizes;
  for (const auto& of_package : wanted)
    for (const Wanted& one : of_package) sizes.insert(one.put->entry.size());
  if (sizes.empty()) return;
  if (!attics_)
    attics_.emplace(root_, state_,
                    state::TxnId{std::max<std::int64_t>(0, number(state_.next_id()) - 1 - kTransactions)});
  for (const std::int64_t row : leaving_) {
    const auto list = state_.files_of(row);
    for (std::size_t i = 0; i < list->size(); ++i) {
      if (list->type(i) != EntryType::File || list->config(i) || !sizes.contains(list->facts(i).size)) continue;
      const FileEntry entry = list->entry(i);
      paths_[entry.digest].push_back(entry.path);
    }
  }
}

}  // namespace hambrel::operations
