#include "repo/path_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <queue>

#include "archive/frame_codec.h"
#include "archive/table.h"
#include "base/error.h"
#include "base/leb128.h"
#include "base/text.h"

namespace hambrel::repo {

namespace {

constexpr std::uint64_t kPathFormat = 1;
constexpr int kPathLevel = 12;
constexpr std::size_t kBlockBytes = 64 << 10;         // plain; a block ends with the entry that reaches it
constexpr std::uint64_t kMostBlock = 4ULL << 20;      // plain: an entry may name many packages
constexpr std::uint64_t kMostDirectory = 4ULL << 20;  // an entry of it may be a tenth of what is kept of it
constexpr std::uint64_t kMostPath = 4096;
constexpr std::uint64_t kPackagesInBlock = 512;
constexpr std::uint64_t kMostPackageBlock = 512 << 10;  // plain
constexpr std::size_t kMostHolders = 10'000;            // of one path
constexpr std::size_t kHeaderSize = 8, kFooterContent = 24, kFooterBytes = kHeaderSize + kFooterContent;

void put_fixed(std::string& to, std::uint64_t value) {
  for (unsigned shift = 0; shift < 64; shift += 8) to += static_cast<char>(static_cast<unsigned char>(value >> shift));
}

/// Reads what the writer put; nothing where the text ends too early or a number has no end.
class Decoder {
 public:
  explicit Decoder(std::string_view text) : rest_(text) {}
  bool done() const { return rest_.empty(); }
  std::optional<std::uint64_t> number() {
    std::uint64_t value = 0;
    for (unsigned shift = 0; shift < 63 && !rest_.empty(); shift += 7) {
      const auto byte = static_cast<unsigned char>(rest_.front());
      rest_.remove_prefix(1);
      value |= static_cast<std::uint64_t>(byte & 0x7FU) << shift;
      if (byte < 0x80) return value;
    }
    return std::nullopt;
  }
  std::optional<std::uint64_t> fixed() {
    if (rest_.size() < 8) return std::nullopt;
    std::uint64_t value = 0;
    for (unsigned i = 0; i < 8; ++i)
      value |= static_cast<std::uint64_t>(static_cast<unsigned char>(rest_[i])) << (8 * i);
    rest_.remove_prefix(8);
    return value;
  }
  std::optional<std::string_view> text(std::uint64_t most) {
    const auto size = number();
    if (!size || *size > most || *size > rest_.size()) return std::nullopt;
    const std::string_view text = rest_.substr(0, *size);
    rest_.remove_prefix(*size);
    return text;
  }
  /// The next path of a front-coded list, of which `path` is the one before. False: damaged.
  bool next_path(std::string& path) {
    const auto shared = number();
    const auto rest = text(kMostPath);
    if (!shared || !rest || *shared > path.size() || *shared + rest->size() > kMostPath) return false;
    path.resize(*shared);
    path += *rest;
    return true;
  }

 private:
  std::string_view rest_;
};

void put_path(std::string& to, std::string_view before, std::string_view path) {
  const auto end = std::mismatch(before.begin(), before.end(), path.begin(), path.end()).second;
  const auto shared = static_cast<std::size_t>(end - path.begin());
  put_leb128(to, shared);
  put_leb128(to, path.size() - shared);
  to += path.substr(shared);
}

/// Where the merge stands in the list of one package.
struct Cursor {
  Decoder rest;
  std::string path;
  std::uint64_t package;
};

struct Later {
  bool operator()(const Cursor* a, const Cursor* b) const {
    return a->path != b->path ? a->path > b->path : a->package > b->package;
  }
};

/// Blocks one after the other, and what the directory says of them.
class BlockWriter {
 public:
  void add(const std::string& plain, std::string_view first) {
    const std::string stored = archive::compress_frame(plain, kPathLevel);
    put_leb128(directory_, content_.size());
    put_leb128(directory_, stored.size());
    put_leb128(directory_, plain.size());
    put_leb128(directory_, first.size());
    directory_ += first;
    content_ += stored;
    ++count_;
  }
  /// The directory of the blocks since the last call, after their number.
  std::string directory() {
    std::string whole;
    put_leb128(whole, count_);
    whole += directory_;
    directory_.clear();
    count_ = 0;
    return whole;
  }
  std::string& content() { return content_; }

 private:
  std::string content_, directory_;
  std::uint64_t count_ = 0;
};

/// The packages that bring a path, as runs of numbers: versions of one package stand side by side.
void put_holders(std::string& to, const std::vector<std::uint64_t>& holders) {
  std::vector<std::pair<std::uint64_t, std::uint64_t>> runs;  // the first, how many
  for (const std::uint64_t one : holders) {
    if (runs.empty() || runs.back().first + runs.back().second != one) runs.emplace_back(one, 0);
    ++runs.back().second;
  }
  put_leb128(to, runs.size());
  for (const auto& [first, count] : runs) {
    put_leb128(to, first);
    put_leb128(to, count);
  }
}

void write_paths(BlockWriter& blocks, const std::vector<std::string>& coded) {
  std::vector<Cursor> cursors;
  for (std::size_t i = 0; i < coded.size(); ++i) cursors.push_back({Decoder(coded[i]), "", i});
  std::priority_queue<Cursor*, std::vector<Cursor*>, Later> queue;
  for (Cursor& cursor : cursors)
    if (cursor.rest.next_path(cursor.path)) queue.push(&cursor);
  std::string plain, before, first;
  while (!queue.empty()) {
    const std::string path = queue.top()->path;
    std::vector<std::uint64_t> holders;
    while (!queue.empty() && queue.top()->path == path) {
      Cursor* const cursor = queue.top();
      queue.pop();
      if (holders.empty() || holders.back() != cursor->package) holders.push_back(cursor->package);
      if (cursor->rest.next_path(cursor->path)) queue.push(cursor);
    }
    if (plain.empty()) {
      before.clear();
      first = path;
    }
    put_path(plain, before, path);
    put_holders(plain, holders);
    before = path;
    if (plain.size() < kBlockBytes) continue;
    blocks.add(plain, first);
    plain.clear();
  }
  if (!plain.empty()) blocks.add(plain, first);
}

void write_packages(BlockWriter& blocks, const std::vector<std::string>& titles) {
  for (std::size_t at = 0; at < titles.size(); at += kPackagesInBlock) {
    std::string plain;
    for (std::size_t i = at; i < std::min(titles.size(), at + kPackagesInBlock); ++i) plain += titles[i] + "\n";
    blocks.add(plain, "");
  }
}

}  // namespace

void PathIndexWriter::add(const Package& package, std::vector<std::string> paths) {
  std::sort(paths.begin(), paths.end());
  std::string coded;
  std::string_view before;
  for (const std::string& path : paths) {
    put_path(coded, before, path);
    before = path;
  }
  titles_.push_back(fmt::format("{} {} {}", package.name, package.version.text(), package.arch));
  coded_.push_back(std::move(coded));
}

std::string PathIndexWriter::finish() {
  BlockWriter blocks;
  write_paths(blocks, coded_);
  std::string directory;
  put_leb128(directory, kPathFormat);
  directory += blocks.directory();
  write_packages(blocks, titles_);
  directory += blocks.directory();
  put_leb128(directory, titles_.size());
  const std::string stored = archive::compress_frame(directory, kPathLevel);
  std::string& whole = blocks.content();
  std::string footer;
  put_fixed(footer, whole.size() + kHeaderSize);
  put_fixed(footer, stored.size());
  put_fixed(footer, directory.size());
  whole += archive::skippable_header(archive::kTableMagic, static_cast<std::uint32_t>(stored.size()));
  whole += stored;
  whole += archive::skippable_header(archive::kFooterMagic, static_cast<std::uint32_t>(footer.size()));
  whole += footer;
  return std::move(whole);
}

void PathIndex::damaged(const char* how) const {
  throw Error(ErrorCode::Untrusted, fmt::format("is not an index of paths: {}", how), where_,
              "run `hambrel refresh`; if this persists, tell the repository's maintainer");
}

PathIndex::PathIndex(std::unique_ptr<os::ReadableFile> file, std::string where)
    : file_(std::move(file)), where_(std::move(where)) {
  const std::uint64_t size = file_->size();
  if (size < kFooterBytes) damaged("it is too short");
  const std::string end = file_->read_exactly(size - kFooterBytes, kFooterBytes, where_);
  if (!end.starts_with(archive::skippable_header(archive::kFooterMagic, kFooterContent))) damaged("it has no footer");
  Decoder footer(std::string_view(end).substr(kHeaderSize));
  const std::uint64_t at = *footer.fixed(), stored = *footer.fixed(), plain_size = *footer.fixed();
  const std::uint64_t limit = size - kFooterBytes;
  if (at > limit || stored != limit - at) damaged("its directory lies elsewhere");
  if (stored > kMostDirectory || plain_size > kMostDirectory) damaged("its directory is too large");
  const std::string directory = archive::decompress_frame(file_->read_exactly(at, stored, where_), plain_size, where_);
  Decoder rest(directory);
  if (rest.number() != kPathFormat) damaged("it was made by a newer Hambrel");
  for (std::vector<Block>* list : {&paths_, &packages_}) {
    const std::uint64_t most = list == &paths_ ? kMostBlock : kMostPackageBlock;
    const auto count = rest.number();
    for (std::uint64_t i = 0; count && i < *count; ++i) {
      const auto offset = rest.number(), length = rest.number(), plain = rest.number();
      const auto first = rest.text(kMostPath);
      if (!offset || !length || !plain || !first || *offset > at || *length > at - *offset || *plain > most)
        damaged("its directory is wrong");
      if (*length == 0 || *plain == 0 || (list == &paths_ && first->empty())) damaged("a block is empty");
      list->push_back({*offset, *length, *plain, std::string(*first)});
    }
  }
  const auto packages = rest.number();
  if (!packages || !rest.done() || (*packages + kPackagesInBlock - 1) / kPackagesInBlock != packages_.size())
    damaged("its directory is wrong");
  package_count_ = *packages;
}

std::string PathIndex::plain(const Block& block) {
  return archive::decompress_frame(file_->read_exactly(block.offset, block.size, where_), block.plain_size, where_);
}

PathHolder PathIndex::holder(std::uint64_t number) {
  if (number >= package_count_) damaged("it names a package that it does not have");
  const std::uint64_t block = number / kPackagesInBlock;
  if (block != open_block_) open_packages_ = plain(packages_[block]);
  open_block_ = block;
  const auto lines = split(open_packages_, '\n');
  const std::size_t line = number % kPackagesInBlock;
  const auto words = line < lines.size() ? split(lines[line], ' ') : std::vector<std::string_view>();
  if (words.size() != 3) damaged("its packages are wrong");
  return {std::string(words[0]), std::string(words[1]), std::string(words[2])};
}

std::vector<PathHolder> PathIndex::holders(std::string_view path) {
  std::vector<PathHolder> found;
  const auto after = std::upper_bound(paths_.begin(), paths_.end(), path,
                                      [](std::string_view wanted, const Block& block) { return wanted < block.first; });
  if (after == paths_.begin()) return found;
  const std::string entries = plain(*std::prev(after));
  Decoder rest(entries);
  std::string here;
  while (!rest.done() && here < path) {
    if (!rest.next_path(here)) damaged("a path is wrong");
    const auto runs = rest.number();
    if (!runs) damaged("the packages of a path are wrong");
    std::uint64_t end = 0;
    for (std::uint64_t i = 0; i < *runs; ++i) {
      const auto first = rest.number(), count = rest.number();
      if (!first || !count || *first < end || *count > kMostHolders - std::min(kMostHolders, found.size()))
        damaged("the packages of a path are wrong");
      end = *first + *count;
      if (here != path) continue;
      for (std::uint64_t number = *first; number < end; ++number) found.push_back(holder(number));
    }
  }
  return found;
}

}  // namespace hambrel::repo
