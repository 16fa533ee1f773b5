#include "repo/index.h"

#include <fmt/format.h>

#include <algorithm>
#include <future>
#include <memory>
#include <mutex>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/parallel.h"
#include "base/pipe.h"
#include "base/text.h"
#include "model/manifest.h"
#include "os/host.h"

namespace hambrel::repo {

namespace {

constexpr std::uint64_t kMostTable = 64ULL << 20;  // bytes, compressed: of a million entries

Digest digest_of(const FastObject& object) {
  const auto digest = Digest::from_hex(object.view("sha256"));
  if (!digest) object.wrong("sha256", "64 hexadecimal digits");
  return *digest;
}

/// All but the package, which is in `line` already.
void read_offer(const FastObject& whole, IndexLine& line) {
  const FastObject object = whole.named(line.package.name);
  line.channel = object.view("channel");
  if (!is_package_name(line.channel)) object.wrong("channel", "the name of a channel");
  const FastObject file = object.object("file"), table = file.object("table");
  line.size = file.number("size");
  line.digest = digest_of(file);
  line.table_offset = table.number("offset");
  line.table_size = table.number("size");
  line.table_digest = digest_of(table);
  const bool inside = line.table_offset < line.size && line.table_size <= line.size - line.table_offset;
  if (!inside || line.table_size > kMostTable) object.wrong("file", "one that holds its table of contents");
}

}  // namespace

bool precedes(const IndexLine& a, const IndexLine& b) {
  if (a.package.name != b.package.name) return a.package.name < b.package.name;
  if (a.package.version != b.package.version) return a.package.version > b.package.version;
  return a.package.arch < b.package.arch;
}

std::string line_text(const IndexLine& line) {
  Json object = package_to_json(line.package);
  object["channel"] = line.channel;
  object["file"] = {
      {"size", line.size},
      {"sha256", line.digest.hex()},
      {"table", {{"offset", line.table_offset}, {"size", line.table_size}, {"sha256", line.table_digest.hex()}}}};
  return canonical(object);
}

std::string index_text(const std::vector<IndexLine>& lines) {
  std::vector<const IndexLine*> sorted;
  for (const IndexLine& line : lines) sorted.push_back(&line);
  std::sort(sorted.begin(), sorted.end(), [](const IndexLine* a, const IndexLine* b) { return precedes(*a, *b); });
  std::string text;
  for (const IndexLine* line : sorted) text += line_text(*line) + "\n";
  return text;
}

namespace {

constexpr std::uint64_t kMostPlainIndex = 2ULL << 30;  // bytes
constexpr std::size_t kMostLine = 2 << 20, kBlock = 64 << 10;

/// Calls f(line, number) for each line of a text, before which others come.
template <typename Function>
void each_line(std::string_view text, std::size_t before, Function f) {
  while (!text.empty()) {
    const std::string_view line = text.substr(0, text.find('\n'));
    f(line, ++before);
    text.remove_prefix(std::min(line.size() + 1, text.size()));
  }
}

/// Some whole lines of an index.
struct Block {
  std::shared_ptr<const std::string> owner;  // of the text
  std::string_view text;
  std::size_t before = 0;  // lines that come before it
};

/// Unpacks an index, in a thread of its own, and cuts it into blocks.
class Blocks {
 public:
  Blocks(std::string_view stored, const std::string& where)
      : where_(where), pieces_(4, [stored, where](Pipe<std::string>& made) {
          archive::decompress_in_pieces(stored, std::min(kMostPlainIndex, archive::most_plain(stored.size())), where,
                                        [&](std::string_view piece) { made.give(std::string(piece)); });
        }) {}

  /// Nothing at the end, and after it has thrown.
  std::optional<Block> next() {
    if (std::exchange(ended_, true)) return std::nullopt;
    std::string begun;  // of a line that goes on in the next piece
    auto end = end_of_block();
    while (end == std::string_view::npos) {
      begun += left_;
      if (begun.size() > kMostLine)
        throw Error(ErrorCode::Invalid, fmt::format("a line is longer than {} bytes", kMostLine), where_);
      auto piece = pieces_.take();
      if (!piece) return begun.empty() ? std::nullopt : std::optional(block_of(std::move(begun)));
      piece_ = std::make_shared<const std::string>(std::move(*piece));
      left_ = *piece_;
      end = begun.empty() ? end_of_block() : left_.find('\n');
    }
    ended_ = false;
    const std::string_view text = left_.substr(0, end + 1);
    left_.remove_prefix(text.size());
    return begun.empty() ? counted({piece_, text, 0}) : block_of(begun.append(text));
  }

 private:
  std::size_t end_of_block() const {
    const auto end = left_.rfind('\n', kBlock);
    return end == std::string_view::npos ? left_.find('\n') : end;
  }
  Block block_of(std::string text) {
    const auto owner = std::make_shared<const std::string>(std::move(text));
    return counted({owner, *owner, 0});
  }
  Block counted(Block block) {
    block.before = lines_;
    each_line(block.text, 0, [&](std::string_view, std::size_t) { ++lines_; });
    return block;
  }

  std::string where_;
  std::shared_ptr<const std::string> piece_;
  std::string_view left_;  // of the piece
  std::size_t lines_ = 0;
  bool ended_ = false;
  Pipe<std::string> pieces_;
};

void read_line(const FastObject& object, RawIndexLine& one) {
  read_without_relations(object, one.line.package, one.relations);
  read_offer(object, one.line);
}

/// Parses an index by several threads. Lines come out in their order; those that were used are written over, as most of
/// the time would go into taking memory for them and giving it back.
class ParsedLines {
 public:
  ParsedLines(std::string_view stored, std::string where, unsigned threads)
      : where_(std::move(where)),
        blocks_(stored, where_),
        parsed_(kMostBlocks, [this, threads](Parsed& parsed) { by_threads(threads, [&] { parse(parsed); }); }) {}

  void each(const std::function<void(RawIndexLine&&)>& take) {
    while (auto next = parsed_.take()) {
      Lines lines = next->get();
      for (std::size_t i = 0; i < lines.count; ++i) take(std::move(lines.all[i]));
      if (lines.problem) std::rethrow_exception(lines.problem);
      const std::lock_guard lock(used_mutex_);
      used_.push_back(std::move(lines));
    }
  }

 private:
  static constexpr std::size_t kMostBlocks = 4;
  struct Lines {
    std::vector<RawIndexLine> all;
    std::size_t count = 0;       // so many of them; the others are old ones
    std::exception_ptr problem;  // with the line after these
  };
  using Parsed = Pipe<std::future<Lines>>;

  void parse(Parsed& parsed) {
    JsonReader reader;
    for (;;) {
      std::promise<Lines> promise;
      std::optional<Block> block;
      {
        // whoever takes a block says in the same turn where its lines will come out
        const std::lock_guard lock(turn_);
        block = blocks_.next();
        if (!block) return;
        parsed.give(promise.get_future());
      }
      Lines lines = take_used();
      try {
        each_line(block->text, block->before, [&](std::string_view text, std::size_t number) {
          if (lines.count == lines.all.size()) lines.all.emplace_back();
          read_line(reader.parse(text, where_, number), lines.all[lines.count]);
          ++lines.count;
        });
      } catch (...) {
        lines.problem = std::current_exception();
      }
      promise.set_value(std::move(lines));
    }
  }

  Lines take_used() {
    const std::lock_guard lock(used_mutex_);
    if (used_.empty()) return {};
    Lines lines = std::move(used_.back());
    used_.pop_back();
    lines.count = 0;
    return lines;
  }

  std::string where_;
  Blocks blocks_;
  std::mutex turn_, used_mutex_;
  std::vector<Lines> used_;
  Parsed parsed_;
};

}  // namespace

std::vector<IndexLine> parse_index(std::string_view text, const std::string& where) {
  std::vector<IndexLine> lines;
  JsonReader reader;
  each_line(text, 0, [&](std::string_view one, std::size_t number) {
    const FastObject object = reader.parse(one, where, number);
    IndexLine& line = lines.emplace_back();
    line.package = package_from_json(object);
    read_offer(object, line);
  });
  return lines;
}

void read_index(std::string_view stored, const std::string& where, const std::function<void(RawIndexLine&&)>& take) {
  constexpr unsigned kMostThreads = 3;  // unpacking and compiling keep no more of them busy
  const unsigned threads = stored.size() < kBlock ? 1 : std::min(os::processors(), kMostThreads);
  ParsedLines(stored, where, threads).each(take);
}

void read_index(std::string_view stored, const std::string& where, const std::function<void(RawIndexLine&&)>& take,
                const std::function<bool(const FastObject&)>& other) {
  RawIndexLine one;
  JsonReader reader;
  Blocks blocks(stored, where);
  while (const auto block = blocks.next())
    each_line(block->text, block->before, [&](std::string_view text, std::size_t number) {
      const FastObject object = reader.parse(text, where, number);
      if (other(object)) return;
      read_line(object, one);
      take(std::move(one));
    });
}

std::string package_directory(std::string_view name) {
  if (!name.starts_with(kGroup)) return std::string(name);
  return "+group." + std::string(name.substr(kGroup.size()));
}

std::string package_path(const Package& package) {
  return fmt::format("packages/{}/{}.{}.hambrel", package_directory(package.name), package.version.text(),
                     package.arch);
}

std::string package_url_path(const Package& package) {
  return fmt::format("packages/{}/{}.{}.hambrel", url_segment(package_directory(package.name)),
                     url_segment(package.version.text()), package.arch);
}

}  // namespace hambrel::repo
