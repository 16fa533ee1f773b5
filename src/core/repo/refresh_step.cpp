#include "repo/refresh_step.h"

#include <fmt/format.h>

#include <algorithm>
#include <thread>
#include <utility>

#include "base/parallel.h"
#include "base/text.h"
#include "repo/index_delta.h"

namespace hambrel::repo {

namespace {

/// RFC 9110, section 8.8.2.2: a file that was written in the second in which it was sent may have been written again
/// in that second, and nothing of what the server says of it would tell.
bool tells_changes(const Request& request, std::int64_t now) {
  constexpr std::int64_t kSure = 2;
  if (request.modified.empty()) return !request.etag.empty();
  const auto modified = parse_http_date(request.modified);
  return modified && *modified + kSure <= now;
}

}  // namespace

void Step::verify(trust::Root::Of role, std::int64_t now, std::optional<std::uint64_t> version) {
  if (!trusted) return;
  const auto document = trusted->verify(text, role, where(), now, is_verified_by_same_root() && is_known());
  if (version && document.version() != *version)
    throw Error(ErrorCode::Untrusted, fmt::format("is number {} where {} was announced", document.version(), *version),
                where(), "the repository may be changing at this moment: try again later");
  if (role != trust::Root::Of::Targets) return;
  after.root = trusted->root().version();
  after.root_fingerprint = trusted->root().document().fingerprint();
  after.signers = document.signers(trusted->root().role(role), trusted->root().keys());
}

bool Step::is_verified_by_same_root() const {
  return before && before->root_fingerprint == (trusted ? trusted->root().document().fingerprint() : "") &&
         before->accepted_unsigned == after.accepted_unsigned;
}

void Step::note_validators(const Request& request, std::int64_t now) {
  const bool use = tells_changes(request, now);
  after.etag = use ? request.etag : "";
  after.modified = use ? request.modified : "";
  after.validated_url = use ? shown_url(request.from) : "";
}

std::string Step::where() const { return shown_url(from.empty() ? repository->url + "/" + next.path : from); }

Error told(const Error& problem, bool is_trusted) {
  const bool is_lie = is_trusted && problem.code() == ErrorCode::Invalid;
  return {
      is_lie ? ErrorCode::Untrusted : problem.code(), problem.problem(), problem.where(),
      problem.hint().empty() ? "try again later; if this persists, tell the repository's maintainer" : problem.hint()};
}

namespace {

constexpr std::uint64_t kMostAhead = 16 << 20;  // bytes that are asked for because a document says that so many come

/// Fetches what comes next of these steps; failures end their step only. Returns those that may have it elsewhere.
std::vector<Step*> fetch_once(Network& network, const std::vector<Step*>& asking, Observer& observer,
                              const Check& check) {
  std::vector<Request> requests;
  requests.reserve(asking.size());
  for (Step* const step : asking) {
    step->text.clear();
    step->text.reserve(std::min(step->next.length, kMostAhead));
    requests.push_back(network.request(*step->repository, step->next.path, step->next.length));
    Request& request = requests.back();
    request.sink = [step](std::string_view data) { step->text += data; };
    request.again = [step] { step->text.clear(); };
    request.verify = [step, &request, &check] {
      step->from = request.from;
      check(*step);
    };
  }
  network.fetch(requests, observer);
  std::vector<Step*> again;
  for (std::size_t i = 0; i < requests.size(); ++i) {
    Step& step = *asking[i];
    step.from = requests[i].from;
    if (!requests[i].problem) continue;
    if (requests[i].absent && !step.instead.empty()) {
      step.next.path = std::exchange(step.instead, "");
      again.push_back(&step);
      continue;
    }
    step.result->problem = told(*requests[i].problem, step.trusted.has_value());
    step.done = true;
  }
  return again;
}

}  // namespace

void fetch_next(Network& network, std::vector<Step*> asking, Observer& observer, const Check& check) {
  while (!asking.empty()) asking = fetch_once(network, asking, observer, check);
}

void fetch_round(Network& network, std::vector<Step>& steps, Observer& observer, const Check& check) {
  std::vector<Step*> asking;
  for (Step& step : steps)
    if (!step.done && step.chain.empty()) asking.push_back(&step);
  fetch_next(network, std::move(asking), observer, check);
}

std::vector<trust::Delta> chain_to(const trust::Pointer& index, const std::vector<trust::Delta>& deltas,
                                   const Source& before, std::uint64_t bytes) {
  std::vector<trust::Delta> chain;
  std::uint64_t at = before.version;
  while (at < index.version) {
    // the one that leads farthest
    const trust::Delta* next = nullptr;
    for (const trust::Delta& one : deltas)
      if (one.from == at && one.version <= index.version && (next == nullptr || one.version > next->version))
        next = &one;
    if (next == nullptr) return {};
    bytes += next->length;
    if (bytes >= index.length) return {};
    chain.push_back(*next);
    at = next->version;
  }
  return chain;
}

namespace {

/// Does each delta lead to the next one, and the last one to the index?
void require_chain(const Step& step) {
  Digest at = step.before->digest;
  for (std::size_t i = 0; i < step.chain.size(); ++i) {
    const bool is_last = i + 1 == step.chain.size();
    require_leads(step.chain_texts[i], at, is_last ? std::optional(step.next.digest) : std::nullopt, step.where());
    if (!is_last) at = end_of_delta(step.chain_texts[i], step.where());
  }
}

}  // namespace

void fetch_chains(Network& network, std::vector<Step>& steps, Observer& observer) {
  std::vector<Request> requests;
  std::vector<std::pair<Step*, std::size_t>> places;
  for (Step& step : steps) {
    if (step.done) step.chain.clear();
    step.chain_texts.assign(step.chain.size(), "");
    for (std::size_t i = 0; i < step.chain.size(); ++i) places.emplace_back(&step, i);
  }
  requests.reserve(places.size());
  for (const auto& [step, i] : places) {
    const trust::Delta& delta = step->chain[i];
    std::string* const text = &step->chain_texts[i];
    requests.push_back(
        network.request(*step->repository, step->trusted ? trust::path_by_digest(delta) : delta.path, delta.length));
    requests.back().sink = [text](std::string_view data) { *text += data; };
    requests.back().again = [text] { text->clear(); };
    requests.back().verify = [text, &delta, step = step] { trust::check_content(*text, delta, step->where()); };
  }
  network.fetch(requests, observer);
  for (std::size_t i = 0; i < places.size(); ++i)
    if (requests[i].problem) places[i].first->chain.clear();  // the whole index it is
  for (Step& step : steps) {
    try {
      if (!step.chain.empty()) require_chain(step);
    } catch (const Error&) {  // the same: whatever is wrong with the whole index is told
      step.chain.clear();
    }
  }
}

namespace {

bool looks_sound(os::FileReader& root, Step& step, bool compiled) {
  const std::string& name = step.repository->name;
  const std::string marks = marks_of(root, name, *step.before);
  if (marks.empty()) return false;
  if (compiled && marks == step.before->file) return true;
  const auto& deltas = step.before->deltas;
  const bool is_sound = std::all_of(deltas.begin(), deltas.end(),
                                    [&](const Digest& one) { return root.digest(cached_delta(name, one)) == one; });
  const std::string index = cached_index(root, name, step.before->base);
  if (compiled || !is_sound) return is_sound && root.digest(index) == step.before->base;
  const auto file = root.stat(index);
  if (!file || file->size > trust::kMostIndexBytes) return false;
  // it will be compiled, out of the memory in which it was found sound
  step.cached = root.read_itself(index, trust::kMostIndexBytes);
  if (sha256(step.cached) == step.before->base) return true;
  std::string().swap(step.cached);
  return false;
}

}  // namespace

bool is_sound(os::FileReader& root, Step& step, bool compiled) {
  if (!step.is_sound) step.is_sound = looks_sound(root, step, compiled);
  return *step.is_sound;
}

void look_at_cached(os::FileReader& root, std::vector<Step>& steps) {
  in_portions(steps.size(), std::thread::hardware_concurrency(), 0, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) {
      try {
        if (steps[i].before) is_sound(root, steps[i], false);
      } catch (const Error&) {
        steps[i].is_sound.reset();
      }
    }
  });
}

void for_each_open(std::vector<Step>& steps, const std::function<void(Step&)>& work) {
  for (Step& step : steps) {
    if (step.done) continue;
    try {
      work(step);
    } catch (const Error& problem) {
      step.result->problem = told(problem, step.trusted.has_value());
      step.done = true;
    }
  }
}

}  // namespace hambrel::repo
