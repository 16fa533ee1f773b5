#include "repo/path_search.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "repo/source.h"

namespace hambrel::repo {

namespace {

/// The index of paths in the cache, if it is the one that this digest names. Read whole only where it was touched
/// since it was verified.
std::unique_ptr<os::ReadableFile> cached(os::FileReader& root, const settings::Repository& repository,
                                         const trust::Pointer& wanted) {
  const std::string path = index_cache_file(repository.name, "paths.zst");
  const std::string told = index_cache_file(repository.name, "paths.json");
  const auto info = root.stat(path);
  if (!info || info->type != os::FileType::Regular || info->size != wanted.length) return nullptr;
  std::string mark;
  try {
    const Json whole = parse_json(root.read_all(told, 1 << 16), root.shown(told));
    const JsonObject object(whole, root.shown(told));
    if (object.text("sha256") == wanted.digest.hex()) mark = object.text("file");
  } catch (const Error&) {  // missing or damaged: the file itself is asked
    mark.clear();
  }
  if (mark != mark_of(root, path) && root.digest(path) != wanted.digest) return nullptr;
  return root.open(path);
}

void keep(os::FileSystem& store, const settings::Repository& repository, const trust::Pointer& pointer,
          std::string_view content) {
  const std::string path = index_cache_file(repository.name, "paths.zst");
  store.replace_file(path, content, 0644);
  const Json told = {{"sha256", pointer.digest.hex()}, {"file", mark_of(store, path)}};
  store.replace_file(index_cache_file(repository.name, "paths.json"), canonical(told), 0644);
}

constexpr const char* kPathsEnd = ".paths.zst";

std::string delta_file(const settings::Repository& repository, const trust::Pointer& pointer) {
  return index_cache_file(repository.name, (pointer.digest.hex() + kPathsEnd).c_str());
}

/// These are small: read whole each time.
std::unique_ptr<os::ReadableFile> cached_delta_of_paths(os::FileReader& root, const settings::Repository& repository,
                                                        const trust::Pointer& wanted) {
  const std::string path = delta_file(repository, wanted);
  const auto info = root.stat(path);
  if (!info || info->type != os::FileType::Regular || info->size != wanted.length) return nullptr;
  std::string content = root.read_all(path, wanted.length);
  if (sha256(content) != wanted.digest) return nullptr;
  return std::make_unique<os::MemoryFile>(std::move(content));
}

/// Those that are not in use any more go.
void keep_delta(os::FileSystem& store, const settings::Repository& repository, const trust::Pointer& pointer,
                std::string_view content, const Source& source) {
  std::set<std::string> used;
  for (const trust::Pointer& one : source.paths_deltas) used.insert(delta_file(repository, one));
  const std::string directory(os::parent_of(delta_file(repository, pointer)));
  for (const std::string& name : store.list(directory))
    if (const std::string path = os::join_path(directory, name); name.ends_with(kPathsEnd) && !used.contains(path))
      store.remove_file(path);
  store.replace_file(delta_file(repository, pointer), content, 0644);
}

std::string fetch(Network& network, const settings::Repository& repository, const trust::Pointer& pointer,
                  Observer& observer) {
  const std::string url = repository.url + "/" + pointer.path;
  const settings::FetchLimits& limits = network.limits();
  if (pointer.length > limits.index_mebibytes << 20U)
    throw Error(ErrorCode::Untrusted,
                fmt::format("an index of paths of {} bytes, at most {} are accepted", pointer.length,
                            limits.index_mebibytes << 20U),
                shown_url(url), "tell the repository's maintainer; [fetch] in hambrel.toml sets what an index may be");
  std::string text;
  std::vector<Request> requests{network.request(repository, pointer.path, pointer.length)};
  requests[0].goes_on = true;
  requests[0].sink = [&](std::string_view data) { text += data; };
  requests[0].again = [&] { text.clear(); };
  requests[0].verify = [&] { trust::check_content(text, pointer, shown_url(url)); };
  observer.begin(fmt::format("fetching the index of paths of {}", repository.name), pointer.length,
                 Observer::Unit::Bytes);
  network.fetch(requests, observer);
  observer.end();
  if (requests[0].problem) throw Error(*requests[0].problem);
  return text;
}

/// Who may not write there, or has no room, fetches it again next time.
void try_to_keep(os::FileSystem& store, const settings::Repository& repository, const trust::Pointer& pointer,
                 std::string_view content, const Source& source) {
  try {
    if (pointer.digest == source.paths->digest)
      keep(store, repository, pointer, content);
    else
      keep_delta(store, repository, pointer, content, source);
  } catch (const Error&) {
  }
}

}  // namespace

PathSearch search_paths(os::FileReader& root, os::FileSystem* store, Network& network,
                        const std::vector<settings::Repository>& repositories, std::string_view path,
                        Observer& observer) {
  PathSearch search;
  for (const settings::Repository& repository : repositories) {
    if (!repository.enabled) continue;
    const auto source = read_source(root, repository);
    if (!source || !source->knows_paths) {
      search.unsearched.push_back(fmt::format("{}: not refreshed yet", repository.name));
      continue;
    }
    if (!source->paths) {
      search.unsearched.push_back(fmt::format("{}: it has no index of paths", repository.name));
      continue;
    }
    std::vector<const trust::Pointer*> parts{&*source->paths};
    for (const trust::Pointer& one : source->paths_deltas) parts.push_back(&one);
    for (const trust::Pointer* const part : parts) {
      const bool is_base = part == parts.front();
      auto file = is_base ? cached(root, repository, *part) : cached_delta_of_paths(root, repository, *part);
      if (!file) {
        std::string content = fetch(network, repository, *part, observer);
        if (store != nullptr) try_to_keep(*store, repository, *part, content, *source);
        file = std::make_unique<os::MemoryFile>(std::move(content));
      }
      PathIndex index(std::move(file), shown_url(repository.url + "/" + part->path));
      for (PathHolder& holder : index.holders(path))
        if (std::find(search.holders.begin(), search.holders.end(), holder) == search.holders.end())
          search.holders.push_back(std::move(holder));
    }
  }
  return search;
}

}  // namespace hambrel::repo
