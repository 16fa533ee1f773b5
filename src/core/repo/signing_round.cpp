#include "repo/signing_round.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::repo {

namespace {

using trust::Root;
using trust::SignedDocument;

constexpr const char* kTimestampName = "timestamp.json";

std::string unfinished_path(const std::string& name) { return fmt::format("{}/{}", kUnfinished, name); }
std::string root_name(std::uint64_t version) { return fmt::format("{}.root.json", version); }
std::string targets_name(std::uint64_t version) { return fmt::format("{}.targets.json", version); }
std::string snapshot_name(std::uint64_t version) { return fmt::format("{}.snapshot.json", version); }

/// Does a document say the same as another, whenever it expires?
bool says_the_same(const SignedDocument& a, const SignedDocument& b) {
  nlohmann::json one = a.content(), other = b.content();
  one.erase("expires");
  other.erase("expires");
  return one == other;
}

}  // namespace

std::optional<Documents> served_documents(os::FileReader& directory) {
  if (!directory.stat(trust::kTimestampPath)) return std::nullopt;
  Documents last;
  last.timestamp = directory.read_all(trust::kTimestampPath, trust::kMostTimestampBytes);
  const auto snapshot = trust::read_pointer(last.timestamp, "timestamp", directory.shown(trust::kTimestampPath));
  last.snapshot = directory.read_all(snapshot.path, trust::kMostMetadataBytes);
  const auto targets = trust::read_pointer(last.snapshot, "snapshot", directory.shown(snapshot.path));
  last.targets = directory.read_all(targets.path, trust::kMostMetadataBytes);
  last.indexes = trust::read_indexes(last.targets, directory.shown(targets.path));
  return last;
}

SigningRound::SigningRound(os::FileSystem& directory, const trust::KeyRing& ring, std::string where, std::int64_t now,
                           trust::Validities validities)
    : directory_(directory), ring_(ring), where_(std::move(where)), now_(now), validities_(std::move(validities)) {}

std::optional<std::string> SigningRound::read(const std::string& path) const {
  if (!directory_.stat(path)) return std::nullopt;
  return directory_.read_all(path, trust::kMostMetadataBytes);
}

namespace {

/// The newest of those that are served; nothing: it is not signed.
std::optional<Root> served_root(os::FileReader& directory) {
  std::uint64_t version = 0;
  while (directory.stat("trust/" + root_name(version + 1))) ++version;
  if (version == 0) return std::nullopt;
  const std::string path = "trust/" + root_name(version);
  return Root::known(directory.read_all(path, trust::kMostMetadataBytes), directory.shown(path));
}

void require_possible(const RootChange& change, const std::optional<Root>& served, const std::string& where) {
  if (change.first && served)
    throw Error(ErrorCode::Refused, fmt::format("has root {} already", served->version()), where,
                "leave out --init; --rotate ROLE exchanges keys");
  if (change.any() && !change.first && !served)
    throw Error(ErrorCode::Refused, "has no root document that could be followed by another", where,
                "--init makes the first");
}

}  // namespace

std::optional<SignedDocument> SigningRound::make_next_root(const RootChange& change,
                                                           const std::optional<Root>& served) {
  std::optional<SignedDocument> next;
  if (change.first)
    next = trust::make_first_root(ring_, now_, where_, change.thresholds, validities_);
  else if (change.any())
    next = trust::make_next_root(*served, change.rotated, ring_, now_, where_, change.thresholds, validities_);
  const std::string path = unfinished_path(root_name(served ? served->version() + 1 : 1));
  if (const auto before = read(path)) {
    auto begun = SignedDocument::parse(*before, "root", directory_.shown(path));
    if (!next || says_the_same(begun, *next)) return begun;  // with the signatures that it has
  }
  return next;
}

void SigningRound::go_on_with_root(const RootChange& change) {
  std::optional<Root> served = served_root(directory_);
  require_possible(change, served, directory_.shown("trust"));
  auto next = make_next_root(change, served);
  if (next) {
    const std::string name = root_name(next->version()), path = unfinished_path(name), shown = directory_.shown(path);
    const Root made = Root::known(next->text(), shown);
    if (served) trust::sign_as(*next, *served, Root::Of::Root, ring_);
    trust::sign_as(*next, made, Root::Of::Root, ring_);
    directory_.make_directories(kUnfinished);
    directory_.replace_file(path, next->text(), 0644);
    next_ = made;
    const std::size_t before = missing_.size();
    const auto require = [&](const Root& by) {
      if (auto missing = trust::missing_of(*next, by.role(Root::Of::Root), by.keys(), "root"))
        missing_.push_back({path, next->version(), std::move(*missing)});
    };
    if (served) require(*served);
    if (!served || made.role(Root::Of::Root) != served->role(Root::Of::Root)) require(made);
    const bool is_whole = missing_.size() == before;
    if (is_whole || !served) {
      root_ = Root::known(next->text(), shown);
      new_root_ = name;
      has_whole_root_ = is_whole;
      return;
    }
  }
  keep_to_served_root();
}

void SigningRound::keep_to_served_root() {
  root_ = served_root(directory_);
  if (root_ && root_->document().expires() <= now_)
    throw Error(ErrorCode::Refused,
                fmt::format("root {} expired at {}", root_->version(), utc_text(root_->document().expires())),
                directory_.shown("trust"), "make the next one with its keys: --rotate root");
}

bool SigningRound::is_good(Root::Of role, const std::string& text) const {
  try {
    return root_->verified(text, role, "").expires() - now_ >= trust::validity(role, validities_) / 2;
  } catch (const Error&) {
    return false;
  }
}

bool SigningRound::is_good(const Documents& served) const {
  return is_good(Root::Of::Targets, served.targets) && is_good(Root::Of::Snapshot, served.snapshot);
}

bool SigningRound::is_timestamp_good(const Documents& served) const {
  return is_good(Root::Of::Timestamp, served.timestamp);
}

std::optional<std::uint64_t> SigningRound::unfinished() const {
  if (!directory_.stat(kUnfinished)) return std::nullopt;
  std::optional<std::uint64_t> highest;
  for (const std::string& name : directory_.list(kUnfinished)) {
    const auto number = parse_number(name.substr(0, name.find('.')));
    if (number && name == targets_name(*number)) highest = std::max(highest.value_or(0), *number);
  }
  return highest;
}

std::optional<std::string> SigningRound::signed_one(const std::string& name, Root::Of role, SignedDocument document) {
  const std::string path = unfinished_path(name);
  const auto before = read(path);
  if (before) {
    auto begun = SignedDocument::parse(*before, Root::name_of(role), directory_.shown(path));
    const bool is_fresh = begun.expires() - now_ >= trust::validity(role, validities_) / 2;
    if (is_fresh && says_the_same(begun, document)) document = std::move(begun);
  }
  auto missing = trust::sign_as(document, *root_, role, ring_);
  std::string text = document.text();
  directory_.make_directories(kUnfinished);
  if (!before || *before != text) directory_.replace_file(path, text, 0644);
  if (!missing) return text;
  missing_.push_back({path, document.version(), std::move(*missing)});
  return std::nullopt;
}

bool SigningRound::sign(std::uint64_t version, const trust::Indexes& indexes, const std::optional<Documents>& served) {
  const auto targets = signed_one(targets_name(version), Root::Of::Targets,
                                  trust::make_targets(version, indexes, expires(Root::Of::Targets)));
  if (!targets) return false;
  const auto snapshot = signed_one(snapshot_name(version), Root::Of::Snapshot,
                                   trust::make_snapshot(version, *targets, expires(Root::Of::Snapshot)));
  if (!snapshot || !sign_timestamp(version, *snapshot, served)) return false;
  drop_unfinished();
  return true;
}

bool SigningRound::sign_timestamp(std::uint64_t snapshot_version, const std::string& snapshot,
                                  const std::optional<Documents>& served) {
  const std::uint64_t number =
      served ? trust::version_of(served->timestamp, directory_.shown(trust::kTimestampPath)) + 1 : 1;
  const auto timestamp =
      signed_one(kTimestampName, Root::Of::Timestamp,
                 trust::make_timestamp(number, snapshot_version, snapshot, expires(Root::Of::Timestamp)));
  if (!timestamp || !has_whole_root_) return false;
  serve({new_root_, targets_name(snapshot_version), snapshot_name(snapshot_version), kTimestampName});
  return true;
}

bool SigningRound::finish(const std::optional<Documents>& served) {
  if (const auto version = unfinished()) {
    const std::string path = unfinished_path(targets_name(*version));
    return sign(*version, trust::read_indexes(*read(path), directory_.shown(path)), served);
  }
  if (directory_.stat(unfinished_path(kTimestampName)) && served) return renew(*served);
  if (!new_root_.empty()) return serve_root();
  throw Error(ErrorCode::NotFound, "nothing waits for signatures", directory_.shown(""), "leave out --finish");
}

bool SigningRound::renew(const Documents& served) {
  const std::string shown = directory_.shown(trust::kTimestampPath);
  const auto pointer = trust::read_pointer(served.timestamp, "timestamp", shown);
  return sign_timestamp(pointer.version, served.snapshot, served);
}

bool SigningRound::serve_root() {
  if (new_root_.empty() || !has_whole_root_) return false;
  serve({new_root_});
  return true;
}

void SigningRound::serve(const std::vector<std::string>& names) {
  for (const std::string& name : names) {
    const std::string from = unfinished_path(name);
    if (name.empty() || !directory_.stat(from)) continue;
    HAMBREL_ASSERT(name.find('/') == std::string::npos, "documents lie beside each other");
    directory_.rename(from, "trust/" + name);
    directory_.sync_directory("trust");
  }
  if (directory_.list(kUnfinished).empty()) directory_.remove_directory(kUnfinished);
}

void SigningRound::drop_unfinished() {
  if (!directory_.stat(kUnfinished)) return;
  for (const std::string& name : directory_.list(kUnfinished))
    if (!name.ends_with(".root.json")) directory_.remove_file(unfinished_path(name));
  if (directory_.list(kUnfinished).empty()) directory_.remove_directory(kUnfinished);
}

}  // namespace hambrel::repo
