#include "model/file_list.h"

#include <algorithm>
#include <cstring>
#include <map>
#include <set>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel {

struct FileList::Record {
  std::uint32_t start = 0;
  std::uint16_t path = 0, target = 0;
  std::uint32_t attributes = 0, owners = 0;
  std::uint16_t mode = 0;
  std::uint8_t type = 0, config = 0;
  std::uint32_t zero = 0;
  std::int64_t mtime = 0;
  std::uint64_t size = 0;
  Digest digest;
};

struct FileList::Owners {
  std::uint32_t start = 0;
  std::uint16_t user = 0, group = 0;
};

namespace {

constexpr std::uint32_t kLayout = 1;
constexpr std::size_t kHead = 16, kRecord = 72, kOwners = 8;

std::string attributes_text(const FileEntry& entry) {
  if (entry.attributes.empty()) return {};
  Json object = Json::object();
  for (const auto& [name, value] : entry.attributes) object[name] = to_base64(value);
  return canonical(object);
}

}  // namespace

const std::shared_ptr<const std::string>& FileList::none() {
  static const auto empty = std::make_shared<const std::string>();
  return empty;
}

FileList::FileList(std::string bytes, std::string where)
    : bytes_(std::make_shared<const std::string>(std::move(bytes))), where_(std::move(where)) {
  static_assert(sizeof(Record) == kRecord && sizeof(Owners) == kOwners && std::is_trivially_copyable_v<Record>);
  if (bytes_->empty()) return;
  std::uint32_t head[4] = {};
  if (bytes_->size() >= kHead) std::memcpy(head, bytes_->data(), kHead);
  count_ = head[1];
  owners_ = head[2];
  if (head[0] != kLayout || (bytes_->size() - kHead) / kRecord < count_ ||
      (bytes_->size() - kHead - count_ * kRecord) / kOwners < owners_)
    throw Error(ErrorCode::Untrusted, "the state has a damaged list of files", where_,
                "`hambrel repair --rebuild` recreates it; nothing was changed");
}

namespace {

/// Users and groups of files, each pair once. Most files have those of the one before.
struct OwnerNumbers {
  using Pair = std::pair<std::string_view, std::string_view>;
  std::vector<Pair> pairs;
  std::size_t text_size = 0;  // bytes
  std::map<Pair, std::uint32_t> known;
  std::uint32_t last = 0;

  std::uint32_t of(const FileEntry& file) {
    const Pair pair(file.user, file.group);
    if (!pairs.empty() && pair == pairs[last]) return last;
    const auto [found, added] = known.emplace(pair, static_cast<std::uint32_t>(pairs.size()));
    if (added) {
      pairs.push_back(pair);
      text_size += pair.first.size() + pair.second.size();
    }
    last = found->second;
    return last;
  }
};

std::vector<const FileEntry*> by_path(std::size_t count, const std::function<const FileEntry&(std::size_t)>& at) {
  std::vector<const FileEntry*> files;
  files.reserve(count);
  for (std::size_t i = 0; i < count; ++i) files.push_back(&at(i));
  const auto before = [](const FileEntry* a, const FileEntry* b) { return a->path < b->path; };
  if (!std::is_sorted(files.begin(), files.end(), before)) std::sort(files.begin(), files.end(), before);
  return files;
}

}  // namespace

FileList FileList::of(std::size_t count, const std::function<const FileEntry&(std::size_t)>& at) {
  const std::vector<const FileEntry*> files = by_path(count, at);
  OwnerNumbers numbers;
  std::vector<std::uint32_t> owners;  // by file
  owners.reserve(count);
  std::map<const FileEntry*, std::string> attributes;  // of the few that have any
  std::size_t texts = 0;                               // bytes
  for (const FileEntry* file : files) {
    owners.push_back(numbers.of(*file));
    texts += file->path.size() + file->target.size();
    if (!file->attributes.empty()) texts += attributes.emplace(file, attributes_text(*file)).first->second.size();
  }
  const auto& pairs = numbers.pairs;
  texts += numbers.text_size;
  std::string bytes(kHead + count * kRecord + pairs.size() * kOwners + texts, '\0');
  char* const first_text = bytes.data() + bytes.size() - texts;
  char *to = bytes.data(), *text = first_text;
  const auto put = [&](const auto& value) {
    static_assert(std::is_trivially_copyable_v<std::decay_t<decltype(value)>>);
    std::memcpy(to, &value, sizeof value);
    to += sizeof value;
  };
  const auto put_text = [&](std::string_view value) { text = std::copy(value.begin(), value.end(), text); };
  const auto start = [&] { return static_cast<std::uint32_t>(text - first_text); };
  for (const std::size_t value : {std::size_t{kLayout}, count, pairs.size(), std::size_t{0}})
    put(static_cast<std::uint32_t>(value));
  std::vector<std::uint32_t> starts;  // of the texts of each pair
  for (const auto& [user, group] : pairs) {
    starts.push_back(start());
    put_text(user);
    put_text(group);
  }
  for (std::size_t i = 0; i < count; ++i) {
    const FileEntry& file = *files[i];
    const auto more = file.attributes.empty() ? attributes.end() : attributes.find(&file);
    Record record;
    record.start = start();
    record.path = static_cast<std::uint16_t>(file.path.size());
    record.target = static_cast<std::uint16_t>(file.target.size());
    record.attributes = more == attributes.end() ? 0 : static_cast<std::uint32_t>(more->second.size());
    record.owners = owners[i];
    record.mode = static_cast<std::uint16_t>(file.mode);
    record.type = static_cast<std::uint8_t>(file.type);
    record.config = file.config ? 1 : 0;
    record.mtime = file.mtime;
    record.size = file.size;
    record.digest = file.digest;
    put(record);
    put_text(file.path);
    put_text(file.target);
    if (more != attributes.end()) put_text(more->second);
  }
  for (std::size_t i = 0; i < pairs.size(); ++i)
    put(Owners{starts[i], static_cast<std::uint16_t>(pairs[i].first.size()),
               static_cast<std::uint16_t>(pairs[i].second.size())});
  return FileList(std::move(bytes), "");
}

FileList FileList::only(const std::vector<std::size_t>& numbers) const {
  std::vector<FileEntry> some;
  some.reserve(numbers.size());
  for (const std::size_t i : numbers) some.push_back(entry(i));
  return of(some);
}

FileList::Record FileList::record(std::size_t i) const {
  Record record;
  std::memcpy(&record, bytes_->data() + kHead + i * kRecord, kRecord);
  return record;
}

std::string_view FileList::text(std::size_t start, std::size_t size) const {
  const std::size_t texts = kHead + count_ * kRecord + owners_ * kOwners;
  if (start > bytes_->size() - texts || size > bytes_->size() - texts - start)
    throw Error(ErrorCode::Untrusted, "the state has a damaged list of files", where_,
                "`hambrel repair --rebuild` recreates it; nothing was changed");
  return std::string_view(*bytes_).substr(texts + start, size);
}

std::pair<std::string_view, std::string_view> FileList::owners(const Record& record) const {
  Owners pair;
  if (record.owners < owners_)
    std::memcpy(&pair, bytes_->data() + kHead + count_ * kRecord + record.owners * kOwners, kOwners);
  return {text(pair.start, pair.user), text(std::size_t{pair.start} + pair.user, pair.group)};
}

std::string_view FileList::path(std::size_t i) const {
  const Record one = record(i);
  return text(one.start, one.path);
}

EntryType FileList::type(std::size_t i) const { return static_cast<EntryType>(record(i).type & 3U); }

bool FileList::config(std::size_t i) const { return record(i).config != 0; }

std::uint64_t FileList::content_size(std::size_t i) const { return record(i).size; }

Digest FileList::digest(std::size_t i) const { return record(i).digest; }

std::string_view FileList::target(std::size_t i) const {
  const Record one = record(i);
  return text(std::size_t{one.start} + one.path, one.target);
}

std::string_view FileList::group(std::size_t i) const { return owners(record(i)).second; }

bool FileList::has_attributes(std::size_t i) const { return record(i).attributes > 0; }

FileList::Facts FileList::facts(std::size_t i) const {
  const Record one = record(i);
  return {static_cast<EntryType>(one.type & 3U), one.mode, one.mtime, one.size,
          text(std::size_t{one.start} + one.path, one.target)};
}

FileEntry FileList::entry(std::size_t i) const {
  const Record one = record(i);
  FileEntry entry;
  entry.path = text(one.start, one.path);
  entry.type = static_cast<EntryType>(one.type & 3U);
  entry.mode = one.mode;
  const auto [user, group] = owners(one);
  entry.user = user;
  entry.group = group;
  entry.mtime = one.mtime;
  entry.size = one.size;
  entry.digest = one.digest;
  entry.target = text(std::size_t{one.start} + one.path, one.target);
  entry.config = one.config != 0;
  if (one.attributes > 0) {
    const Json attributes =
        parse_json(std::string(text(std::size_t{one.start} + one.path + one.target, one.attributes)), where_);
    for (const auto& [key, value] : attributes.items())
      if (value.is_string()) entry.attributes.emplace(key, from_base64(value.get<std::string>()).value_or(""));
  }
  return entry;
}

std::vector<FileEntry> FileList::entries() const {
  std::vector<FileEntry> result;
  result.reserve(count_);
  for (std::size_t i = 0; i < count_; ++i) result.push_back(entry(i));
  return result;
}

std::optional<std::size_t> FileList::find(std::string_view wanted) const {
  std::size_t first = 0, last = count_;
  while (first < last) {
    const std::size_t middle = first + (last - first) / 2;
    (path(middle) < wanted ? first : last) = path(middle) < wanted ? middle + 1 : middle;
  }
  if (first < count_ && path(first) == wanted) return first;
  return std::nullopt;
}

bool FileList::same(std::size_t i, const FileEntry& other) const {
  const Record one = record(i);
  const auto [user, group] = owners(one);
  if (one.type != static_cast<std::uint8_t>(other.type) || one.mode != other.mode ||
      (one.mtime != other.mtime && other.type != EntryType::Directory) || one.size != other.size ||
      one.digest != other.digest || user != other.user || group != other.group ||
      text(std::size_t{one.start} + one.path, one.target) != other.target)
    return false;
  if (one.attributes == 0 || other.attributes.empty()) return one.attributes == 0 && other.attributes.empty();
  return entry(i).attributes == other.attributes;
}

bool FileList::same(std::size_t i, const FileList& other, std::size_t j) const {
  const Record a = record(i), b = other.record(j);
  if (a.type != b.type || a.mode != b.mode || a.size != b.size || a.digest != b.digest ||
      a.attributes != b.attributes || (a.mtime != b.mtime && type(i) != EntryType::Directory))
    return false;
  const auto rest = [](const FileList& list, const Record& one) {
    return list.text(std::size_t{one.start} + one.path, std::size_t{one.target} + one.attributes);
  };
  return a.target == b.target && rest(*this, a) == rest(other, b) && owners(a) == other.owners(b);
}

FileList::Differences FileList::differences(const FileList& before, const FileList& after) {
  std::set<std::string, std::less<>> linked;
  for (const FileList* const list : {&before, &after})
    for (std::size_t i = 0; i < list->size(); ++i)
      if (list->type(i) == EntryType::HardLink) linked.insert(list->entry(i).target);
  const auto must_be_seen = [&](const FileList& list, std::size_t i) {
    return list.config(i) || list.type(i) == EntryType::HardLink || linked.contains(list.path(i));
  };
  Differences result;
  std::size_t i = 0, j = 0;
  while (i < before.size() || j < after.size()) {
    int order = i == before.size() ? 1 : -1;  // of what is left alone
    if (i < before.size() && j < after.size()) order = before.path(i).compare(after.path(j));
    if (order != 0 || !before.same(i, after, j) || must_be_seen(before, i) || must_be_seen(after, j)) {
      if (order <= 0) result.before.push_back(i);
      if (order >= 0) result.after.push_back(j);
    }
    if (order <= 0) ++i;
    if (order >= 0) ++j;
  }
  return result;
}

}  // namespace hambrel
