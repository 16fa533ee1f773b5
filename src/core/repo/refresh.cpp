#include "repo/refresh.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/frame_codec.h"
#include "base/json.h"
#include "repo/index.h"
#include "repo/metadata.h"
#include "repo/transfer.h"

namespace hambrel::repo {

namespace {

constexpr std::uint64_t kMostPlainIndex = 4ULL << 30;

std::string cache_file(const std::string& repository, const char* name) {
  return fmt::format("{}/{}/{}", kIndexCache, repository, name);
}

/// What source.json in the cache tells of an index.
struct Source {
  std::string url;
  std::uint64_t version = 0, packages = 0;
  std::int64_t fetched = 0;
  Digest digest, timestamp;
};

std::optional<Source> read_source(os::FileReader& root, const Repository& repository) {
  const std::string path = cache_file(repository.name, "source.json");
  if (!root.stat(path)) return std::nullopt;
  const Json whole = parse_json(root.read_all(path, 1 << 16), root.shown(path));
  const JsonObject object(whole, root.shown(path));
  Source source;
  source.url = object.text("url");
  source.version = object.number("version");
  source.packages = object.number("packages");
  source.fetched = object.signed_number("fetched");
  source.digest = Digest::from_hex(object.text("sha256")).value_or(Digest{});
  source.timestamp = Digest::from_hex(object.text("timestamp")).value_or(Digest{});
  if (source.url != repository.url) return std::nullopt;  // of another place: worth nothing
  return source;
}

void write_source(os::FileSystem& root, const Repository& repository, const Source& source) {
  const Json object = {
      {"url", source.url},         {"version", source.version},     {"packages", source.packages},
      {"fetched", source.fetched}, {"sha256", source.digest.hex()}, {"timestamp", source.timestamp.hex()}};
  root.replace_file(cache_file(repository.name, "source.json"), canonical(object), 0644);
}

/// One repository on its way through the documents.
struct Step {
  const Repository* repository;
  RefreshResult* result;
  Pointer next;      // what to fetch now
  std::string text;  // what came
  std::optional<Source> before;
  Source after;
  bool done = false;

  std::string url() const { return repository->url + "/" + next.path; }
};

/// Fetches the next document of every step that is not done; failures end their step only.
void fetch_round(std::vector<Step>& steps, unsigned parallel, Observer& observer) {
  std::vector<Request> requests;
  std::vector<Step*> asking;
  for (Step& step : steps) {
    if (step.done) continue;
    step.text.clear();
    requests.push_back({step.url(), step.next.length, {}, [&step](std::string_view data) { step.text += data; }, {}});
    asking.push_back(&step);
  }
  fetch_all(requests, parallel, observer);
  for (std::size_t i = 0; i < requests.size(); ++i) {
    if (!requests[i].problem) continue;
    asking[i]->result->problem = requests[i].problem;
    asking[i]->done = true;
  }
}

template <typename Work>
void for_each_open(std::vector<Step>& steps, Work work) {
  for (Step& step : steps) {
    if (step.done) continue;
    try {
      work(step);
    } catch (const Error& problem) {
      step.result->problem = problem;
      step.done = true;
    }
  }
}

void store_index(os::FileSystem& root, Step& step, std::int64_t now) {
  check_content(step.text, step.next, step.url());
  const std::string plain = archive::decompress_sized(step.text, kMostPlainIndex, step.url());
  step.after.packages = parse_index(plain, step.url()).size();  // nothing malformed goes into the cache
  step.after.url = step.repository->url;
  step.after.version = step.next.version;
  step.after.fetched = now;
  step.after.digest = step.next.digest;
  root.make_directories(fmt::format("{}/{}", kIndexCache, step.repository->name));
  root.replace_file(cache_file(step.repository->name, "index.jsonl.zst"), step.text, 0644);
  write_source(root, *step.repository, step.after);
  step.result->changed = !step.before || step.before->digest != step.after.digest;
  step.before = step.after;
  step.done = true;
}

}  // namespace

std::vector<RefreshResult> refresh(os::FileSystem& root, const std::vector<Repository>& repositories, unsigned parallel,
                                   std::int64_t now, Observer& observer) {
  std::vector<RefreshResult> results(repositories.size());
  std::vector<Step> steps(repositories.size());
  observer.begin("fetching indexes", 0, Observer::Unit::Bytes);
  for (std::size_t i = 0; i < steps.size(); ++i) {
    results[i].repository = repositories[i].name, results[i].url = repositories[i].url;
    steps[i].repository = &repositories[i], steps[i].result = &results[i];
    steps[i].next = {kTimestampPath, 0, kMostTimestampBytes, {}};
  }
  for_each_open(steps, [&](Step& step) { step.before = read_source(root, *step.repository); });
  fetch_round(steps, parallel, observer);
  for_each_open(steps, [&](Step& step) {
    step.after.timestamp = sha256(step.text);
    step.next = read_pointer(step.text, "timestamp", step.url());
    if (!step.before || step.before->timestamp != step.after.timestamp) return;
    step.before->fetched = now;
    write_source(root, *step.repository, *step.before);
    step.done = true;
  });
  fetch_round(steps, parallel, observer);
  for_each_open(steps, [&](Step& step) {
    check_content(step.text, step.next, step.url());
    step.next = read_pointer(step.text, "snapshot", step.url());
  });
  fetch_round(steps, parallel, observer);
  for_each_open(steps, [&](Step& step) {
    check_content(step.text, step.next, step.url());
    step.next = read_index_pointer(step.text, step.url());
    if (step.next.length > kMostIndexBytes)
      throw Error(ErrorCode::Invalid, "names an index that is too large", step.url());
  });
  fetch_round(steps, parallel, observer);
  for_each_open(steps, [&](Step& step) { store_index(root, step, now); });
  observer.end();
  for (Step& step : steps) {
    if (!step.before) continue;
    step.result->version = step.before->version;
    step.result->packages = step.before->packages;
    step.result->fetched = step.before->fetched;
  }
  return results;
}

namespace {

void add_lines(Catalog& catalog, const Repository& repository, std::vector<IndexLine> lines, const std::string& arch) {
  catalog.candidates.reserve(catalog.candidates.size() + lines.size());
  for (IndexLine& line : lines) {
    if (line.package.arch != "any" && line.package.arch != arch) {
      catalog.other_architectures[line.package.name].push_back(
          fmt::format("{} for {}", line.package.version.text(), line.package.arch));
      continue;
    }
    Offer offer;
    offer.repository = repository.name;
    offer.channel = line.channel;
    offer.rank = repository.rank;
    offer.followed =
        std::find(repository.channels.begin(), repository.channels.end(), line.channel) != repository.channels.end();
    offer.size = line.size;
    offer.digest = line.digest;
    offer.table_offset = line.table_offset, offer.table_size = line.table_size, offer.table_digest = line.table_digest;
    catalog.candidates.push_back({std::move(line.package), {offer}, {}});
  }
}

}  // namespace

Catalog load_catalog(os::FileReader& root, const std::vector<Repository>& repositories, const std::string& arch) {
  Catalog catalog;
  for (const Repository& repository : repositories) {
    CachedIndex index;
    index.repository = repository;
    try {
      const auto source = read_source(root, repository);
      if (source) {
        index.version = source->version, index.fetched = source->fetched, index.packages = source->packages;
      } else {
        index.problem = "not refreshed yet";
      }
      if (source && repository.enabled) {
        const std::string path = cache_file(repository.name, "index.jsonl.zst");
        const std::string stored = root.read_all(path, kMostIndexBytes);
        if (sha256(stored) != source->digest)
          throw Error(ErrorCode::Untrusted, "the cached index is damaged", root.shown(path), "run `hambrel refresh`");
        const std::string plain = archive::decompress_sized(stored, kMostPlainIndex, root.shown(path));
        add_lines(catalog, repository, parse_index(plain, root.shown(path)), arch);
      }
    } catch (const Error& problem) {
      index.problem = problem.what();
    }
    catalog.indexes.push_back(std::move(index));
  }
  return catalog;
}

}  // namespace hambrel::repo
