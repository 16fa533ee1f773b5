#include "repo/trusted.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

using trust::Root;

std::string first_file(const std::string& name) { return fmt::format("{}/{}/root.json", kFirstTrust, name); }
std::string state_file(const std::string& name) { return fmt::format("{}/{}/state.json", kVerified, name); }

constexpr Root::Of kSeen[] = {Root::Of::Timestamp, Root::Of::Snapshot, Root::Of::Targets};

std::size_t place(Root::Of role) { return static_cast<std::size_t>(role); }

bool has_same_keys(const Root& a, const Root& b, Root::Of role) {
  return a.role(role).keys == b.role(role).keys && a.role(role).threshold == b.role(role).threshold;
}

}  // namespace

std::optional<TrustedRepository> TrustedRepository::read(os::FileReader& root, const std::string& name) {
  const std::string first_path = first_file(name);
  if (!root.stat(first_path)) return std::nullopt;
  Root first = Root::first(root.read_all(first_path, trust::kMostMetadataBytes), root.shown(first_path));
  const std::string anchor = first.document().fingerprint();
  TrustedRepository trusted(name, anchor, std::move(first));
  const std::string path = state_file(name);
  if (!root.stat(path)) return trusted;
  const std::string shown = root.shown(path);
  const Json whole = parse_json(root.read_all(path, 2 * trust::kMostMetadataBytes), shown);
  const JsonObject object(whole, shown);
  if (object.text("first") != trusted.anchor_) return trusted;
  trusted.root_ = Root::first(object.text("root"), shown);
  trusted.time_ = object.signed_number("time");
  for (const Root::Of role : kSeen) trusted.seen_[place(role)] = object.number(Root::name_of(role));
  return trusted;
}

void TrustedRepository::trust(os::FileSystem& root, const std::string& name, const Root& first) {
  // the decision first: there is no moment at which the repository is not verified, and an older state belongs to
  // another
  root.make_directories(fmt::format("{}/{}", kFirstTrust, name));
  root.replace_file(first_file(name), first.document().text(), 0644);
  if (const std::string old = fmt::format("{}/{}", kVerified, name); root.stat(old)) root.remove_tree(old);
}

void TrustedRepository::forget(os::FileSystem& root, const std::string& name) {
  for (const char* const directory : {kVerified, kFirstTrust})
    if (const std::string path = fmt::format("{}/{}", directory, name); root.stat(path)) root.remove_tree(path);
}

std::string TrustedRepository::next_root_path() const { return fmt::format("trust/{}.root.json", root_.version() + 1); }

void TrustedRepository::advance(std::string_view text, const std::string& where) {
  Root next = root_.next(text, where);
  // whoever had keys that were exchanged may have signed numbers that nothing comes after
  const auto is_kept = [&](Root::Of role) { return has_same_keys(root_, next, role); };
  if (!std::all_of(std::begin(kSeen), std::end(kSeen), is_kept)) seen_ = {};
  root_ = std::move(next);
}

void TrustedRepository::require_fresh(std::int64_t now) const { root_.document().require_fresh(not_before(now)); }

std::uint64_t TrustedRepository::verify(std::string_view text, Root::Of role, const std::string& where,
                                        std::int64_t now) {
  const auto document = root_.verified(text, role, where);
  std::uint64_t& seen = seen_[place(role)];
  if (document.version() < seen)
    throw Error(ErrorCode::Untrusted,
                fmt::format("{} {} is older than number {}, which was already seen", Root::name_of(role),
                            document.version(), seen),
                where,
                fmt::format("a mirror may lag behind: try again later; if the maintainer says that the repository was "
                            "made anew: hambrel repo trust {}",
                            name_));
  document.require_fresh(not_before(now));
  seen = document.version();
  return seen;
}

void TrustedRepository::store(os::FileSystem& root, std::int64_t now) const {
  Json object = {{"first", anchor_}, {"root", root_.document().text()}, {"time", not_before(now)}};
  for (const Root::Of role : kSeen) object[Root::name_of(role)] = seen_[place(role)];
  const std::string content = canonical(object), path = state_file(name_);
  root.make_directories(fmt::format("{}/{}", kVerified, name_));
  root.replace_file(path, content, 0644);
}

}  // namespace hambrel::repo
