#include "repo/publish.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "os/lock.h"
#include "repo/publish_contents.h"
#include "repo/publish_groups.h"
#include "repo/publish_notes.h"

namespace hambrel::repo {

namespace {

constexpr const char* kLock = ".publish/lock";  // in a directory of its own, which nobody else enters
constexpr int kPublishLockSeconds = 120;
constexpr std::uint64_t kKeptIndexes = 3;  // clients in the middle of a refresh still find the one they read of

/// Files of indexes that none of the last documents names go.
void drop_old(os::FileSystem& directory, std::uint64_t version) {
  HAMBREL_ASSERT(version > 0, "something was published");
  std::set<std::string> named;
  for (std::uint64_t one = version; one > 0 && one + kKeptIndexes > version; --one) {
    const std::string path = trust::targets_path(one);
    if (!directory.stat(path)) continue;
    const trust::Indexes indexes =
        trust::read_indexes(directory.read_all(path, trust::kMostMetadataBytes), directory.shown(path));
    const auto keep = [&](const trust::Pointer& pointer) {
      named.insert(pointer.path);
      named.insert(trust::path_by_digest(pointer));
    };
    keep(indexes.full);
    for (const auto* const file : {&indexes.paths, &indexes.advisories, &indexes.news, &indexes.recipes})
      if (*file) keep(**file);
    for (const auto* deltas : {&indexes.deltas, &indexes.paths_deltas})
      for (const trust::Delta& delta : *deltas) keep(delta);
  }
  for (const std::string& name : directory.list("index")) {
    const std::string plain = name.substr(name.find('.') == 64 ? 65 : 0);
    constexpr std::string_view kOurs[] = {"full-", "files-", "delta-", "advisories-", "news-", "recipes-"};
    const bool is_ours = std::any_of(std::begin(kOurs), std::end(kOurs),
                                     [&](std::string_view prefix) { return plain.starts_with(prefix); });
    if (is_ours && !named.contains("index/" + name)) directory.remove_file("index/" + name);
  }
  for (std::uint64_t old = version > kKeptIndexes ? version - kKeptIndexes : 0; old > 0; --old) {
    if (!directory.stat(trust::targets_path(old)) && !directory.stat(trust::snapshot_path(old))) break;
    for (const std::string& path : {trust::snapshot_path(old), trust::targets_path(old)})
      if (directory.stat(path)) directory.remove_file(path);
  }
}

/// Under its plain name, and under that with its digest.
void write_index(os::FileSystem& directory, const MadeFile& file) {
  directory.replace_file(file.path, file.content, 0644);
  const std::string by_digest = trust::path_by_digest({file.path, 0, 0, sha256(file.content)});
  if (directory.stat(by_digest)) directory.remove_file(by_digest);
  try {
    directory.make_hard_link(file.path, by_digest);
  } catch (const Error&) {  // a file system without links
    directory.replace_file(by_digest, file.content, 0644);
  }
}

void write_indexes(os::FileSystem& directory, const Contents& contents) {
  directory.make_directories("index");
  directory.make_directories("trust");
  for (const MadeFile& file : contents.files) write_index(directory, file);
}

void publish_unsigned(os::FileSystem& directory, const Contents& contents, std::int64_t now, Published& published) {
  write_indexes(directory, contents);
  const trust::Metadata made = trust::make_metadata(published.version, contents.indexes, now);
  directory.replace_file(made.targets_path, made.targets, 0644);
  directory.replace_file(made.snapshot_path, made.snapshot, 0644);
  directory.replace_file(trust::kTimestampPath, made.timestamp, 0644);
}

constexpr const char* kLeftOut = ".publish/left-out";  // lines "SECONDS PATH"

/// Package files that are not offered any more are deleted a day after they were left out: until then somebody with an
/// older index may fetch them. Returns those that were.
std::vector<std::string> delete_left_out(os::FileSystem& directory, const std::vector<std::string>& left_out,
                                         std::int64_t now) {
  std::map<std::string, std::int64_t> since;
  if (directory.stat(kLeftOut)) {
    const std::string known = directory.read_itself(kLeftOut, 1ULL << 28);
    for (const std::string_view line : split(known, '\n'))
      if (const auto time = parse_number(line.substr(0, line.find(' '))))
        since[std::string(line.substr(line.find(' ') + 1))] = static_cast<std::int64_t>(*time);
  }
  std::vector<std::string> deleted;
  std::string text;
  for (const std::string& path : left_out) {
    const auto known = since.find(path);
    if (known != since.end() && known->second + trust::kDay <= now) {
      HAMBREL_ASSERT(os::is_below(path, "packages"), "nothing goes but package files");
      directory.remove_file(path);
      deleted.push_back(path);
    } else {
      text += fmt::format("{} {}\n", known == since.end() ? now : known->second, path);
    }
  }
  if (!text.empty() || !since.empty()) directory.replace_file(kLeftOut, text, 0644);
  return deleted;
}

void require_use_for_keys(const SigningRound& round, const PublishKeys& keys, const os::FileSystem& directory) {
  const bool asks = keys.root.any() || keys.renew || keys.finish;
  if (round.root() || (keys.ring.empty() && !asks)) return;
  if (keys.ring.empty())
    throw Error(ErrorCode::Refused, "this repository is not signed, and no keys are at hand", directory.shown(""),
                "name their directory with --keys");
  throw Error(ErrorCode::Refused, "there are keys, but no root document that says what each is for",
              directory.shown(""), "--init makes one");
}

/// With signatures.
void publish_signed(os::FileSystem& directory, SigningRound& round, std::optional<Contents> contents, bool renew,
                    Published& published) {
  const auto served = served_documents(directory);
  if (renew && !served)
    throw Error(ErrorCode::Refused, "nothing was published yet", directory.shown(""), "leave out --renew");
  const bool stands = contents && served && contents->as_served && !contents->notes_are_new && round.is_good(*served);
  if (renew || (stands && !round.is_timestamp_good(*served)))
    published.renewed = round.renew(*served);
  else if (!contents)
    published.changed = round.finish(served);
  else if (stands)
    round.serve_root();
  else {
    ++published.version;
    renumber(directory, *contents, published.version);
    write_indexes(directory, *contents);
    published.changed = round.sign(published.version, contents->indexes, served);
  }
  published.missing = round.missing();
  const auto now_served = served_documents(directory);
  published.version = now_served ? now_served->indexes.full.version : 0;
}

}  // namespace

Published publish(os::FileSystem& directory, std::int64_t now, Observer& observer, const PublishKeys& keys) {
  // a timer may sign a timestamp while somebody publishes: one after the other
  const auto lock = os::take_lock(directory, kLock, kPublishLockSeconds, "");
  RepositorySettings settings = read_repository_settings(directory);
  trust::Validities validities = keys.validities;
  validities.merge(settings.validities);  // what was asked for this time counts first
  Published published;
  std::optional<Contents> contents;
  const auto before = served_documents(directory);
  if (!keys.finish && !keys.renew) {
    const std::uint64_t next = before ? before->indexes.full.version + 1 : 1;
    if (!directory.stat(kSubset)) make_groups(directory);  // there they come from elsewhere
    contents = read_contents(directory, settings, before, next, observer);
    contents->notes_are_new = add_notes(directory, before, next, keys.recipes, *contents);
    published.packages = contents->packages;
    published.read = contents->read;
    published.channels = contents->channels;
    published.left_out = contents->left_out;
  }

  SigningRound round(directory, keys.ring, keys.where, now, std::move(validities));
  if (keys.root.first && keys.ring.empty())
    throw Error(ErrorCode::Refused, "no keys are at hand", directory.shown(""), "name their directory with --keys");
  if (keys.renew)
    round.keep_to_served_root();
  else
    round.go_on_with_root(keys.root);
  require_use_for_keys(round, keys, directory);
  if (before) published.version = before->indexes.full.version;
  if (!round.root()) {
    HAMBREL_ASSERT(contents, "only what is signed can be finished or renewed without them");
    if (!before || !contents->as_served || contents->notes_are_new) {
      published.changed = true;
      ++published.version;
      renumber(directory, *contents, published.version);
      publish_unsigned(directory, *contents, now, published);
    }
  } else {
    publish_signed(directory, round, std::move(contents), keys.renew, published);
    if (keys.root.any()) {
      published.asked_root = round.next_root()->version();
      for (const trust::Root::Of role : trust::kRoles) {
        const trust::Role& one = round.next_root()->role(role);
        published.roles.push_back({trust::Root::name_of(role), one.threshold, one.keys});
      }
    }
    published.root = round.root()->version();
    published.root_expires = round.root()->document().expires();
    const std::string first = "trust/1.root.json";
    const std::string first_path = directory.stat(first) ? first : fmt::format("{}/1.root.json", kUnfinished);
    const trust::Root root =
        trust::Root::known(directory.read_all(first_path, trust::kMostMetadataBytes), directory.shown(first_path));
    published.fingerprint = root.document().fingerprint();
    published.fingerprint_text = root.fingerprint_text();
  }
  if (published.changed) drop_old(directory, published.version);
  if (contents && published.missing.empty()) published.deleted = delete_left_out(directory, contents->left_out, now);
  if (contents && contents->read > 0) directory.replace_file(kSeen, contents->seen, 0644);
  return published;
}

}  // namespace hambrel::repo
