#include "operations/config_difference.h"

#include <fmt/format.h>

#include "base/digest.h"
#include "base/merge.h"
#include "txn/settle.h"

namespace hambrel::operations {

namespace {

/// Only what the plan means: a file that somebody changed since is another one.
std::optional<std::string> if_meant(std::optional<std::string> text, const std::optional<Digest>& meant) {
  return text && meant && sha256(*text) == *meant ? std::move(text) : std::nullopt;
}

std::optional<std::string> text_of(Root& root, const txn::Put& put, const ContentOf& content_of) {
  if (put.rest().content) return *put.rest().content;
  if (!put.rest().kept.empty()) return txn::read_text(root.files(), put.rest().kept);
  std::string text = content_of(put);
  return is_text(text) ? std::optional(std::move(text)) : std::nullopt;
}

std::optional<std::string> text_after(Root& root, const plan::ConfigStep& step, const txn::Planned& planned,
                                      const ContentOf& content_of) {
  if (const txn::Put* const put = txn::find_put(planned.tree, step.path)) return text_of(root, *put, content_of);
  for (const state::Move& move : planned.moves)
    if (move.path == step.path)
      return txn::read_text(root.files(), fmt::format("{}/{}/{}", move.home, planned.attic, move.place));
  return std::nullopt;
}

}  // namespace

std::vector<ConfigDifference> config_differences(Root& root, const plan::Plan& plan, const txn::Planned& planned,
                                                 const ContentOf& content_of) {
  std::vector<ConfigDifference> differences;
  for (const plan::ConfigStep& step : plan.configs) {
    if (!step.changes_file()) continue;
    ConfigDifference& one = differences.emplace_back();
    one.path = step.path;
    one.before = if_meant(txn::read_text(root.files(), step.from.empty() ? step.path : step.from), step.before);
    if (step.after) one.after = if_meant(text_after(root, step, planned, content_of), step.after);
    one.known = one.before.has_value() == step.before.has_value() && one.after.has_value() == step.after.has_value();
  }
  return differences;
}

}  // namespace hambrel::operations
