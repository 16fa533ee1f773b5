#include "repo/trusted.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "base/json.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

using trust::Root;

std::string first_file(const std::string& name) { return fmt::format("{}/{}/root.json", kFirstTrust, name); }
std::string state_file(const std::string& name) { return fmt::format("{}/{}/state.json", kVerified, name); }

constexpr Root::Of kRemembered[] = {Root::Of::Timestamp, Root::Of::Snapshot, Root::Of::Targets};

std::size_t place(Root::Of role) { return static_cast<std::size_t>(role); }

bool has_same_keys(const Root& a, const Root& b, Root::Of role) { return a.role(role) == b.role(role); }

}  // namespace

std::optional<TrustedRepository> TrustedRepository::read(os::FileReader& root, const std::string& name) {
  const std::string first_path = first_file(name);
  if (!root.stat(first_path)) return std::nullopt;
  Root first = Root::known(root.read_all(first_path, trust::kMostMetadataBytes), root.shown(first_path));
  const std::string anchor = first.document().fingerprint();
  TrustedRepository trusted(name, anchor, std::move(first));
  const std::string path = state_file(name);
  if (!root.stat(path)) return trusted;
  const std::string shown = root.shown(path);
  const Json whole = parse_json(root.read_all(path, 2 * trust::kMostMetadataBytes), shown);
  const JsonObject object(whole, shown);
  if (object.text("first") != trusted.anchor_) return trusted;
  trusted.root_ = Root::known(object.text("root"), shown);
  trusted.time_ = object.signed_number("time");
  const bool knows_expiry = object.has("expires");
  for (const Root::Of role : kRemembered) {
    Seen& seen = trusted.seen_[place(role)];
    seen.version = object.number(Root::name_of(role));
    if (knows_expiry) seen.expires = JsonObject(object.member("expires"), shown).signed_number(Root::name_of(role));
  }
  return trusted;
}

bool TrustedRepository::is_trusted(os::FileReader& root, const std::string& name) {
  return root.stat(first_file(name)).has_value();
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
  HAMBREL_ASSERT(next.version() == root_.version() + 1, "root documents follow each other");
  // whoever had keys that were exchanged may have signed numbers that nothing comes after
  const auto is_kept = [&](Root::Of role) { return has_same_keys(root_, next, role); };
  if (!std::all_of(std::begin(kRemembered), std::end(kRemembered), is_kept)) seen_ = {};
  root_ = std::move(next);
  changed_ = true;
}

void TrustedRepository::require_fresh(std::int64_t now) const {
  try {
    root_.document().require_fresh(now, time_);
  } catch (const Error& problem) {
    throw Error(
        problem.code(), fmt::format("root {} {}", root_.version(), problem.problem()), problem.where(),
        fmt::format("check the clock of this machine; if it is right, the maintainer has not made the next root, "
                    "or this system was away for too long: `hambrel repo trust {}` starts over, with the "
                    "fingerprint that the maintainer tells",
                    name_));
  }
}

bool TrustedRepository::is_fresh(std::int64_t now) const {
  const std::int64_t latest = std::max(now, time_);
  return root_.document().expires() > latest && seen(Root::Of::Timestamp).expires > latest;
}

trust::SignedDocument TrustedRepository::verify(std::string_view text, Root::Of role, const std::string& where,
                                                std::int64_t now, bool known) {
  auto document =
      known ? trust::SignedDocument::parse(text, Root::name_of(role), where) : root_.verified(text, role, where);
  Seen& seen = seen_[place(role)];
  if (document.version() < seen.version)
    throw Error(ErrorCode::Untrusted,
                fmt::format("{} {} is older than number {}, which was already seen", Root::name_of(role),
                            document.version(), seen.version),
                where,
                fmt::format("a mirror may lag behind: try again later; if the maintainer says that the repository was "
                            "made anew: hambrel repo trust {}",
                            name_));
  document.require_fresh(now, time_);
  const std::int64_t expires = document.expires();
  changed_ = changed_ || seen.version != document.version() || seen.expires != expires;
  seen = {document.version(), expires};
  return document;
}

void TrustedRepository::store(os::FileSystem& root, std::int64_t now) {
  constexpr std::int64_t kHour = 3600;
  if (!changed_ && now < time_ + kHour) return;
  time_ = std::max(now, time_);
  Json expires = Json::object();
  Json object = {{"first", anchor_}, {"root", root_.document().text()}, {"time", time_}};
  for (const Root::Of role : kRemembered) {
    object[Root::name_of(role)] = seen(role).version;
    expires[Root::name_of(role)] = seen(role).expires;
  }
  object["expires"] = std::move(expires);
  root.make_directories(fmt::format("{}/{}", kVerified, name_));
  root.replace_file(state_file(name_), canonical(object), 0644);
  changed_ = false;
}

}  // namespace hambrel::repo
