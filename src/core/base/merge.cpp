#include "base/merge.h"

#include <memory>

#include "base/error.h"
#include "base/git2_library.h"

namespace hambrel {

namespace {

constexpr std::size_t kMostBytes = 4 << 20;
constexpr std::string_view kMine = "yours", kTheirs = "the new version", kBase = "before both changes";

[[noreturn]] void failed() {
  throw Error(ErrorCode::Internal, "the comparison of two texts failed", HAMBREL_GIT2_FILE);
}

// never a null pointer, which would mean that there is no such text
const char* data_of(std::string_view text) { return text.empty() ? "" : text.data(); }

git_merge_file_input input(std::string_view text) {
  git_merge_file_input one = GIT_MERGE_FILE_INPUT_INIT;
  one.ptr = data_of(text);
  one.size = text.size();
  return one;
}

int collect(const git_diff_delta*, const git_diff_hunk*, const git_diff_line* line, void* to) {
  using Kind = DiffLine::Kind;
  DiffLine one;
  switch (line->origin) {
    case GIT_DIFF_LINE_CONTEXT: one.kind = Kind::Same; break;
    case GIT_DIFF_LINE_ADDITION: one.kind = Kind::Come; break;
    case GIT_DIFF_LINE_DELETION: one.kind = Kind::Gone; break;
    case GIT_DIFF_LINE_HUNK_HDR: one.kind = Kind::Hunk; break;
    case GIT_DIFF_LINE_CONTEXT_EOFNL:
    case GIT_DIFF_LINE_ADD_EOFNL:
    case GIT_DIFF_LINE_DEL_EOFNL: one.kind = Kind::NoNewline; break;
    default: return 0;  // the head, which names files
  }
  one.text.assign(line->content, line->content_len);
  if (one.text.starts_with('\n')) one.text.erase(0, 1);  // of NoNewline, which ends the line before it first
  if (one.text.ends_with('\n')) one.text.pop_back();
  static_cast<std::vector<DiffLine>*>(to)->push_back(std::move(one));
  return 0;
}

}  // namespace

bool is_text(std::string_view content) {
  return content.size() <= kMostBytes && content.find('\0') == std::string_view::npos;
}

Merged merge(std::string_view base, std::string_view mine, std::string_view theirs) {
  const Git2Library& git2 = git2_library();
  const git_merge_file_input of_base = input(base), of_mine = input(mine), of_theirs = input(theirs);
  git_merge_file_options options = GIT_MERGE_FILE_OPTIONS_INIT;
  options.ancestor_label = kBase.data();
  options.our_label = kMine.data();
  options.their_label = kTheirs.data();
  options.flags = GIT_MERGE_FILE_STYLE_DIFF3;
  git_merge_file_result result{};
  if (git2.merge_file(&result, &of_base, &of_mine, &of_theirs, &options) != 0) failed();
  const auto release = [&](git_merge_file_result* one) { git2.merge_file_result_free(one); };
  const std::unique_ptr<git_merge_file_result, decltype(release)> owner(&result, release);
  Merged merged;
  merged.clean = result.automergeable != 0;
  if (result.ptr != nullptr) merged.text.assign(result.ptr, result.len);
  return merged;
}

bool has_markers(std::string_view text) {
  for (const std::string_view mark : {"<<<<<<< ", ">>>>>>> "})
    if (text.starts_with(mark) || text.find(std::string("\n").append(mark)) != std::string_view::npos) return true;
  return false;
}

std::vector<DiffLine> diff(std::string_view before, std::string_view after) {
  const Git2Library& git2 = git2_library();
  git_diff_options options = GIT_DIFF_OPTIONS_INIT;
  options.flags |= GIT_DIFF_FORCE_TEXT;
  git_patch* patch = nullptr;
  if (git2.patch_from_buffers(&patch, data_of(before), before.size(), "a", data_of(after), after.size(), "b",
                              &options) != 0)
    failed();
  const std::unique_ptr<git_patch, decltype(git2.patch_free)> owner(patch, git2.patch_free);
  std::vector<DiffLine> lines;
  if (patch != nullptr && git2.patch_print(patch, collect, &lines) != 0) failed();
  return lines;
}

Extent extent_of(const std::vector<DiffLine>& lines) {
  Extent extent;
  for (const DiffLine& one : lines) {
    if (one.kind == DiffLine::Kind::Gone) ++extent.gone;
    if (one.kind == DiffLine::Kind::Come) ++extent.come;
  }
  return extent;
}

}  // namespace hambrel
