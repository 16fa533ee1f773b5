#include "repo/notes.h"

#include <algorithm>

#include "repo/advisory_index.h"
#include "repo/recipe_list.h"

namespace hambrel::repo {

std::string text_in_cache(os::FileReader& root, const std::string& repository, const trust::Pointer& pointer) {
  const std::string path = cached_note(repository, pointer.digest);
  std::string text = root.read_all(path, trust::kMostIndexBytes);
  if (sha256(text) != pointer.digest)
    throw Error(ErrorCode::Untrusted, "is damaged in the cache", root.shown(path), "run `hambrel refresh`");
  return text;
}

namespace {

bool is_in_cache(os::FileReader& root, const std::string& repository, const trust::Pointer& pointer) {
  const std::string path = cached_note(repository, pointer.digest);
  return root.stat(path) && root.digest(path) == pointer.digest;
}

std::vector<NewsItem> news_in(os::FileReader& root, const std::string& repository,
                              const std::optional<Source>& source) {
  if (!source || !source->news) return {};
  return parse_news(text_in_cache(root, repository, *source->news), root.shown(kIndexCache));
}

/// News that were not there before; of a repository that is new, none.
void tell_news(os::FileReader& root, Step& step) {
  if (!step.before) return;
  std::vector<NewsItem> before;
  try {
    before = news_in(root, step.repository->name, step.before);
  } catch (const Error&) {  // what is damaged is fetched again; then all of it counts as read
    return;
  }
  for (NewsItem& one : news_in(root, step.repository->name, step.after))
    if (std::find(before.begin(), before.end(), one) == before.end()) step.result->news.push_back(std::move(one));
}

void keep_compiled(os::FileSystem& root, const Step& step) {
  const std::string& name = step.repository->name;
  const trust::Pointer& pointer = *step.after.advisories;
  if (AdvisoryIndex::is_stored(root, name, pointer.digest)) return;
  const std::string text = text_in_cache(root, name, pointer);
  root.replace_file(cached_advisories(name, pointer.digest),
                    AdvisoryIndex::compile(text, pointer.digest, root.shown(kIndexCache)), 0644);
}

}  // namespace

void fetch_notes(os::FileSystem& root, Network& network, std::vector<Step>& steps, Observer& observer) {
  struct Wanted {
    Step* step;
    const trust::Pointer* pointer;
    std::string text{};
  };
  std::vector<Wanted> wanted;
  for_each_open(steps, [&](Step& step) {
    for (const auto* const pointer : {&step.after.advisories, &step.after.news, &step.after.recipes}) {
      if (!*pointer) continue;
      if ((*pointer)->length > network.limits().index_mebibytes << 20U)
        throw Error(ErrorCode::Untrusted, "lists a file that is larger than an index may be", step.where(),
                    "tell the repository's maintainer");
      if (!is_in_cache(root, step.repository->name, **pointer)) wanted.push_back({&step, &**pointer});
    }
  });
  std::vector<Request> requests;
  requests.reserve(wanted.size());
  for (Wanted& one : wanted) {
    const Step& step = *one.step;
    const std::string path = step.trusted ? trust::path_by_digest(*one.pointer) : one.pointer->path;
    requests.push_back(network.request(*step.repository, path, one.pointer->length));
    requests.back().sink = [&one](std::string_view data) { one.text += data; };
    requests.back().again = [&one] { one.text.clear(); };
    requests.back().verify = [&one] { trust::check_content(one.text, *one.pointer, one.step->where()); };
  }
  network.fetch(requests, observer);
  for_each_open(steps, [&](Step& step) {
    for (std::size_t i = 0; i < wanted.size(); ++i) {
      if (wanted[i].step != &step) continue;
      if (requests[i].problem) throw Error(*requests[i].problem);
      const auto is_of = [&](const std::optional<trust::Pointer>& one) { return one && wanted[i].pointer == &*one; };
      if (is_of(step.after.news)) parse_news(wanted[i].text, step.where());
      if (is_of(step.after.advisories)) parse_advisories(wanted[i].text, step.where());
      if (is_of(step.after.recipes)) parse_recipe_list(wanted[i].text, step.where());
      const std::string path = cached_note(step.repository->name, wanted[i].pointer->digest);
      root.make_directories(os::parent_of(path));
      root.replace_file(path, wanted[i].text, 0644);
    }
    if (step.after.advisories) keep_compiled(root, step);
    tell_news(root, step);
  });
}

std::vector<NewsItem> news_of(os::FileReader& root, const settings::Repository& repository) {
  return news_in(root, repository.name, read_source(root, repository));
}

}  // namespace hambrel::repo
