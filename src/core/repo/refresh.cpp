#include "repo/refresh.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>

#include "base/parallel.h"
#include "base/text.h"
#include "os/host.h"
#include "os/lock.h"
#include "repo/curl_library.h"
#include "repo/notes.h"
#include "repo/refresh_step.h"
#include "trust/signing.h"

namespace hambrel::repo {

namespace {

/// Nothing where it is damaged.
std::optional<Source> readable_source(os::FileReader& root, const settings::Repository& repository) {
  try {
    return read_source(root, repository);
  } catch (const Error&) {  // told where it is made anew, and by whoever lists the repositories
    return std::nullopt;
  }
}

/// An index that was fetched just now: whole, or as what leads to it from the one that the cache has.
IndexInput fetched_input(os::FileReader& root, Step& step) {
  IndexInput input;
  std::string().swap(step.cached);
  if (step.chain.empty()) {
    input.repository = step.repository->name;
    input.base = step.next.digest;
    input.stored = std::move(step.text);
    input.file = new_cached_index(step.repository->name, input.base);
  } else {
    input = cached_input(root, *step.repository, *step.before);
    for (std::size_t i = 0; i < step.chain.size(); ++i)
      input.deltas.push_back({step.chain[i].digest, std::move(step.chain_texts[i]),
                              cached_delta(step.repository->name, step.chain[i].digest)});
  }
  input.digest = step.next.digest;
  input.where = step.where();
  return input;
}

/// What of a repository is to be in the catalogue: what was fetched just now, else what the cache holds.
std::vector<IndexInput> inputs_for(os::FileReader& root, const std::vector<settings::Repository>& all,
                                   std::vector<Step>& steps) {
  std::vector<IndexInput> inputs;
  for (const settings::Repository& repository : all) {
    const auto step = std::find_if(steps.begin(), steps.end(),
                                   [&](const Step& one) { return one.repository->name == repository.name; });
    if (step != steps.end() && !step->done) {
      inputs.push_back(fetched_input(root, *step));
    } else if (const auto source = readable_source(root, repository)) {
      inputs.push_back(cached_input(root, repository, *source));
      if (step != steps.end() && step->before && step->before->base == source->base)
        inputs.back().stored = std::exchange(step->cached, "");
    }
  }
  return inputs;
}

/// Did one of the deltas turn out to be of no use? Then all that came by deltas is asked for whole.
bool give_up_chains(std::vector<Step>& steps, const std::vector<IndexInput>& inputs) {
  const bool any = std::any_of(inputs.begin(), inputs.end(), [&](const IndexInput& input) {
    return input.problem && std::any_of(steps.begin(), steps.end(), [&](const Step& step) {
             return !step.done && step.repository->name == input.repository && !step.chain.empty();
           });
  });
  if (any)
    for (Step& step : steps) step.chain.clear();
  return any;
}

/// Compiles everything and stores what was fetched. What can't be read does not go into the cache. False: a delta was
/// of no use, and nothing was stored; these steps want the whole index now.
bool store_indexes(os::FileSystem& root, std::vector<Step>& steps, const std::vector<settings::Repository>& all,
                   std::int64_t now) {
  std::vector<IndexInput> inputs = inputs_for(root, all, steps);
  const bool fetched = std::any_of(steps.begin(), steps.end(), [](const Step& step) { return !step.done; });
  if (!fetched && open_catalogue(root, inputs)) return true;
  // An index goes into its file, whose name nobody knows yet, as soon as it was read: it need not stay in memory.
  const auto store = [&](IndexInput& input) {
    const auto step = std::find_if(steps.begin(), steps.end(),
                                   [&](const Step& one) { return one.repository->name == input.repository; });
    if (!input.stored.empty() && step != steps.end() && !step->done) {
      root.make_directories(fmt::format("{}/{}", kIndexCache, input.repository));
      root.replace_file(input.file, input.stored, 0644);
    }
    const bool is_much = input.stored.size() > (1U << 20U);  // bytes
    std::string().swap(input.stored);                        // an assignment would keep its memory
    if (is_much) os::give_memory_back();
  };
  ImagePieces image = compile_catalogue(root, inputs, store);
  if (give_up_chains(steps, inputs)) return false;
  bool again = false;
  for_each_open(steps, [&](Step& step) {
    const auto input = std::find_if(inputs.begin(), inputs.end(),
                                    [&](const IndexInput& one) { return one.repository == step.repository->name; });
    if (input->problem) {
      again = step.before.has_value();  // the index that it had before stays in use
      throw Error(*input->problem);
    }
    step.after.packages = input->packages;
    step.after.url = shown_url(step.repository->url);
    step.after.version = step.next.version;
    step.after.fetched = now;
    step.after.digest = step.next.digest;
    step.after.base = input->base;
    for (const IndexInput::Piece& one : input->deltas) {
      step.after.deltas.push_back(one.digest);
      if (!one.stored.empty()) root.replace_file(one.file, one.stored, 0644);
    }
    step.after.file = marks_of(root, step.repository->name, step.after);
    write_source(root, *step.repository, step.after);
    step.result->changed = !step.before || step.before->digest != step.after.digest;
    step.before = step.after;
    step.done = true;
  });
  if (again) {
    inputs = inputs_for(root, all, steps);
    image = compile_catalogue(root, inputs);
  }
  root.replace_cache(kCatalogueFile, image.bytes(), 0644);
  image = ImagePieces({});
  os::give_memory_back();  // before it is mapped from there
  return true;
}

/// source.json in the cache, or nothing where that is damaged: the next refresh makes it anew.
std::optional<Source> sound_source(os::FileReader& root, const settings::Repository& repository, Observer& observer) {
  try {
    return read_source(root, repository);
  } catch (const Error& problem) {
    observer.note(fmt::format("{}; it is rebuilt", problem.what()));
    return std::nullopt;
  }
}

/// Bytes of the deltas that the cache has.
std::uint64_t bytes_of_deltas(os::FileReader& root, const Step& step) {
  std::uint64_t bytes = 0;
  for (const Digest& one : step.before->deltas)
    if (const auto file = root.stat(cached_delta(step.repository->name, one))) bytes += file->size;
  return bytes;
}

/// What was seen is remembered before anything that it leads to is used: nothing older is ever accepted after it.
void store_verified(os::FileSystem& root, Step& step, std::int64_t now) {
  if (step.trusted) step.trusted->store(root, now);
}

/// The index in the cache is the one that the new documents name, too.
void keep_index(os::FileSystem& root, Step& step, std::int64_t now) {
  step.before->fetched = now;
  step.before->timestamp = step.after.timestamp;
  step.before->timestamp_version = step.after.timestamp_version;
  step.before->version = step.next.version;
  step.before->paths = step.after.paths;
  step.before->paths_deltas = step.after.paths_deltas;
  step.before->advisories = step.after.advisories;
  step.before->recipes = step.after.recipes;
  step.before->news = step.after.news;
  step.before->root = step.after.root;
  step.before->root_fingerprint = step.after.root_fingerprint;
  step.before->signers = step.after.signers;
  step.before->accepted_unsigned = step.after.accepted_unsigned;
  step.before->roots_asked = step.after.roots_asked;
  step.before->etag = step.after.etag;
  step.before->modified = step.after.modified;
  step.before->validated_url = step.after.validated_url;
  write_source(root, *step.repository, *step.before);
  step.done = true;
}

[[noreturn]] void refuse_older(const Step& step, const char* what, std::uint64_t given, std::uint64_t known) {
  throw Error(ErrorCode::Untrusted,
              fmt::format("{} {} is older than number {}, which was already seen", what, given, known), step.where(),
              fmt::format("a mirror may lag behind: try again later; if the repository was recreated, drop it and add "
                          "it again: hambrel repo drop {}",
                          step.repository->name));
}

void require_length(const Step& step, std::uint64_t most, const char* what) {
  if (step.next.length > most)
    throw Error(ErrorCode::Untrusted,
                fmt::format("lists {} of {} bytes; at most {} are accepted", what, step.next.length, most),
                step.where(), "tell the repository's maintainer; [fetch] in hambrel.toml sets what an index may be");
}

/// Before Hambrel knew signatures, repositories were taken as they were.
bool is_from_before(const Source& source) { return source.root == 0 && !source.accepted_unsigned; }

[[noreturn]] void require_trust(const Step& step) {
  const std::string& name = step.repository->name;
  throw Error(
      ErrorCode::Untrusted, "its keys are not trusted yet", shown_url(step.repository->url),
      fmt::format("`hambrel repo trust {}` shows them and asks; if it is not signed, and what it offers is to be "
                  "taken all the same: trust = \"none\" in /etc/hambrel/repos/{}.toml",
                  name, name));
}

/// What is known of each repository.
void look_at_trust(os::FileSystem& root, std::vector<Step>& steps) {
  for_each_open(steps, [&](Step& step) {
    const settings::Repository& repository = *step.repository;
    if (repository.accepts_unsigned) return;
    step.trusted = TrustedRepository::read(root, repository.name);
    // those from before go on
    const bool from_before = step.before && is_from_before(*step.before);
    if (!step.trusted && !from_before) require_trust(step);
  });
}

/// Asks for the timestamps. Where one is what was verified last, byte by byte, and all of that is still fresh, nothing
/// is new but, for a day at most, a root document: whoever exchanges keys signs a new timestamp as well.
void probe(os::FileSystem& root, Network& network, std::vector<Step>& steps, Observer& observer, std::int64_t now,
           bool compiled) {
  std::vector<Step*> asking;
  std::vector<Request> requests;
  for_each_open(steps, [&](Step& step) {
    if (!step.before || !step.before->knows_paths || !step.is_verified_by_same_root()) return;
    if (step.trusted && (!step.trusted->is_fresh(now) || step.before->roots_asked + trust::kDay <= now)) return;
    if (!is_sound(root, step, compiled)) return;
    Request request = network.request(*step.repository, step.next.path, step.next.length);
    request.sink = [&step](std::string_view data) { step.text += data; };
    request.again = [&step] { step.text.clear(); };
    if (step.before->validated_url == shown_url(request.servers->url(0, step.next.path))) {
      request.if_etag = step.before->etag;
      request.if_modified = step.before->modified;
    }
    asking.push_back(&step);
    requests.push_back(std::move(request));
  });
  network.fetch(requests, observer);
  for (std::size_t i = 0; i < asking.size(); ++i) {
    Step& step = *asking[i];
    const Request& request = requests[i];
    step.from = request.from;
    if (request.problem) continue;  // asked for again below, of every mirror
    if (!request.unchanged && !step.is_known()) {
      step.asked = true;
      step.note_validators(request, now);
      continue;
    }
    if (!request.unchanged) {
      step.note_validators(request, now);
      step.before->etag = step.after.etag;
      step.before->modified = step.after.modified;
      step.before->validated_url = step.after.validated_url;
    }
    if (step.trusted) step.trusted->store(root, now);
    step.before->fetched = now;
    write_source(root, *step.repository, *step.before);
    step.done = true;
  }
}

/// Of signed repositories: goes on along the chain of root documents to its end, and remembers how far it came.
void follow_roots(os::FileSystem& root, Network& network, std::vector<Step>& steps, Observer& observer,
                  std::int64_t now) {
  constexpr int kMostRounds = 256;  // longer chains go on with the next refresh
  std::vector<Step*> open;
  for (Step& step : steps)
    if (step.trusted && !step.done) open.push_back(&step);
  for (int round = 0; round < kMostRounds && !open.empty(); ++round) {
    std::vector<Request> requests;
    requests.reserve(open.size());
    std::vector<std::string> texts(open.size());
    for (std::size_t i = 0; i < open.size(); ++i) {
      TrustedRepository& trusted = *open[i]->trusted;
      requests.push_back(network.request(*open[i]->repository, trusted.next_root_path(), trust::kMostMetadataBytes));
      Request& request = requests.back();
      request.may_be_absent = true;
      request.sink = [&text = texts[i]](std::string_view data) { text += data; };
      request.again = [&text = texts[i]] { text.clear(); };
      request.verify = [&text = texts[i], &trusted, &request] { trusted.advance(text, shown_url(request.from)); };
    }
    network.fetch(requests, observer);
    std::vector<Step*> further;
    for (std::size_t i = 0; i < open.size(); ++i) {
      Step& step = *open[i];
      if (requests[i].absent) {
        step.after.roots_asked = now;  // the end of the chain
        continue;
      }
      if (requests[i].problem) {
        step.result->problem = told(*requests[i].problem, true);
        step.done = true;
        continue;
      }
      step.trusted->store(root, 0);  // nothing fresh was seen yet: a clock far ahead must not be remembered
      further.push_back(&step);
    }
    open = std::move(further);
  }
  for_each_open(steps, [&](Step& step) {
    if (step.trusted) step.trusted->require_fresh(now);
  });
}

/// The timestamps that are new, verified.
void fetch_timestamps(Network& network, std::vector<Step>& steps, Observer& observer, std::int64_t now) {
  const Check check = [&](Step& step) {
    step.after.timestamp = sha256(step.text);
    step.after.timestamp_version = trust::version_of(step.text, step.where());
    step.verify(trust::Root::Of::Timestamp, now);
    if (step.compares_with_cache() && step.after.timestamp_version < step.before->timestamp_version)
      refuse_older(step, "timestamp", step.after.timestamp_version, step.before->timestamp_version);
  };
  std::vector<Step*> asking;
  for_each_open(steps, [&](Step& step) {
    const bool has_others = network.servers(*step.repository)->count() > 1;
    try {
      if (step.asked) return check(step);
    } catch (const Error&) {
      if (!has_others) throw;
      step.note_validators({}, now);  // of a mirror that lags behind or lies: the others are asked
    }
    asking.push_back(&step);
  });
  fetch_next(network, std::move(asking), observer, check);
}

constexpr const char* kRefreshLock = "var/cache/hambrel/private/refresh.lock";
constexpr int kRefreshLockSeconds = 120;

}  // namespace

std::vector<RefreshResult> refresh(os::FileSystem& root, Network& network,
                                   const std::vector<settings::Repository>& repositories,
                                   const std::vector<settings::Repository>& all, std::int64_t now, Observer& observer) {
  root.make_directories(kIndexCache);
  const auto lock = os::take_lock(root, kRefreshLock, kRefreshLockSeconds, "");
  std::vector<RefreshResult> results(repositories.size());
  std::vector<Step> steps(repositories.size());
  observer.begin("fetching indexes", 0, Observer::Unit::Bytes);
  for (std::size_t i = 0; i < steps.size(); ++i) {
    results[i].repository = repositories[i].name;
    results[i].url = shown_url(repositories[i].url);
    steps[i].repository = &repositories[i];
    steps[i].after.accepted_unsigned = repositories[i].accepts_unsigned;
    steps[i].result = &results[i];
    steps[i].next = {trust::kTimestampPath, 0, trust::kMostTimestampBytes, {}};
    steps[i].before = sound_source(root, repositories[i], observer);
  }
  look_at_trust(root, steps);
  // loading it takes a while; what is wrong with it is told when it is used
  const auto library = steps.empty() ? Aside<void>() : aside([] { curl_library(); });
  const bool compiled = stored_catalogue(root, all) != nullptr;
  if (!compiled) look_at_cached(root, steps);
  probe(root, network, steps, observer, now, compiled);
  follow_roots(root, network, steps, observer, now);
  fetch_timestamps(network, steps, observer, now);
  for_each_open(steps, [&](Step& step) {
    const bool unchanged =
        step.before && step.before->knows_paths && step.is_known() && step.is_verified_by_same_root();
    step.next = trust::read_pointer(step.text, "timestamp", step.where());
    require_length(step, trust::kMostMetadataBytes, "a snapshot");
    if (!unchanged || !is_sound(root, step, compiled)) return;
    store_verified(root, step, now);
    step.before->fetched = now;
    step.before->roots_asked = step.after.roots_asked;
    write_source(root, *step.repository, *step.before);
    step.done = true;
  });
  fetch_round(network, steps, observer, [&](Step& step) {
    trust::check_content(step.text, step.next, step.where());
    step.verify(trust::Root::Of::Snapshot, now, step.next.version);
  });
  for_each_open(steps, [&](Step& step) {
    step.next = trust::read_pointer(step.text, "snapshot", step.where());
    require_length(step, trust::kMostMetadataBytes, "a list of targets");
  });
  fetch_round(network, steps, observer, [&](Step& step) {
    trust::check_content(step.text, step.next, step.where());
    step.verify(trust::Root::Of::Targets, now, step.next.version);
  });
  std::map<const Step*, std::vector<trust::Delta>> deltas;
  for_each_open(steps, [&](Step& step) {
    trust::Indexes indexes = trust::read_indexes(step.text, step.where());
    step.next = std::move(indexes.full);
    step.after.paths = std::move(indexes.paths);
    step.after.advisories = std::move(indexes.advisories);
    step.after.recipes = std::move(indexes.recipes);
    step.after.news = std::move(indexes.news);
    for (const trust::Delta& one : indexes.paths_deltas)
      if (step.after.paths && one.from >= step.after.paths->version) step.after.paths_deltas.push_back(one);
    if (step.compares_with_cache() && step.next.version < step.before->version)
      refuse_older(step, "index", step.next.version, step.before->version);
    require_length(step, network.limits().index_mebibytes << 20U, "an index");
    deltas[&step] = std::move(indexes.deltas);
    store_verified(root, step, now);
  });
  fetch_notes(root, network, steps, observer);
  for_each_open(steps, [&](Step& step) {
    const bool same = step.before && step.before->knows_paths && step.next.digest == step.before->digest;
    if (same && is_sound(root, step, compiled)) return keep_index(root, step, now);  // only the documents are new
    if (step.before && step.before->knows_paths && is_sound(root, step, compiled))
      step.chain = chain_to(step.next, deltas[&step], *step.before, bytes_of_deltas(root, step));
    if (!step.trusted) return;
    step.instead = step.next.path;  // who published it before this had its name
    step.next.path = trust::path_by_digest(step.next);
  });
  fetch_chains(network, steps, observer);
  fetch_round(network, steps, observer, [](Step& step) { trust::check_content(step.text, step.next, step.where()); });
  if (!store_indexes(root, steps, all, now)) {
    // a delta did not fit: the whole index tells
    fetch_round(network, steps, observer, [](Step& step) { trust::check_content(step.text, step.next, step.where()); });
    store_indexes(root, steps, all, now);
  }
  observer.end();
  for (Step& step : steps) {
    if (!step.before) continue;
    // where something failed, source.json may be the one from before or the new one
    if (!step.result->problem) drop_other_indexes(root, step.repository->name, *step.before);
    step.result->version = step.before->version;
    step.result->packages = step.before->packages;
    step.result->root = step.before->root;
    step.result->fetched = step.before->fetched;
  }
  return results;
}

namespace {

/// What was taken unverified is not used any more once its repository has to be signed.
void require_verified(os::FileReader& root, const settings::Repository& repository, const Source& source) {
  if (source.root != 0 || repository.accepts_unsigned) return;
  if (TrustedRepository::is_trusted(root, repository.name))
    throw Error(ErrorCode::Untrusted, "not verified yet: `hambrel refresh` does it");
  if (!is_from_before(source))
    throw Error(
        ErrorCode::Untrusted,
        fmt::format("not signed, and its file allows that no longer: see `hambrel repo trust {}`", repository.name));
}

}  // namespace

Catalog load_catalog(os::FileReader& root, const std::vector<settings::Repository>& repositories, bool may_use_stored) {
  Catalog catalog;
  std::vector<IndexInput> inputs;
  for (const settings::Repository& repository : repositories) {
    CachedIndex index;
    index.repository = repository;
    try {
      if (const auto source = read_source(root, repository)) {
        index.version = source->version;
        index.fetched = source->fetched;
        index.packages = source->packages;
        index.root = source->root;
        index.signers = source->signers;
        require_verified(root, repository, *source);
        IndexInput input = cached_input(root, repository, *source);
        if (const auto file = root.stat(input.file)) index.bytes = file->size;
        for (const IndexInput::Piece& one : input.deltas)
          if (const auto file = root.stat(one.file)) index.bytes += file->size;
        inputs.push_back(std::move(input));
      } else {
        index.problem = repository.problem.empty() ? "not refreshed yet" : repository.problem;
      }
    } catch (const Error& problem) {
      index.problem = problem.what();
    }
    catalog.indexes.push_back(std::move(index));
  }
  if (may_use_stored) catalog.base = open_catalogue(root, inputs);
  catalog.compiled = catalog.base != nullptr;
  if (catalog.base) return catalog;
  catalog.base = layer_of(compile_catalogue(root, inputs).joined());
  for (const IndexInput& input : inputs)
    for (CachedIndex& index : catalog.indexes)
      if (input.problem && index.repository.name == input.repository) index.problem = input.problem->what();
  return catalog;
}

std::shared_ptr<const Layer> stored_catalogue(os::FileReader& root,
                                              const std::vector<settings::Repository>& repositories) {
  std::vector<Step> none;
  return open_catalogue(root, inputs_for(root, repositories, none));
}

}  // namespace hambrel::repo
