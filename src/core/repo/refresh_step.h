// One repository on its way through its documents, see refresh.cpp: what was known before, what came, what comes next.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "repo/refresh.h"
#include "repo/source.h"
#include "repo/trusted.h"

namespace hambrel::repo {

struct Step {
  const settings::Repository* repository;
  RefreshResult* result;
  trust::Pointer next;  // what to fetch now
  std::string instead;  // its path where there is nothing at that of `next`; empty: nothing is
  std::string text;     // what came
  std::string from;     // the URL that it came from
  bool asked = false;   // the timestamp came already
  // What leads from the index of before to the next one, and what came of it; empty: the whole index is fetched.
  std::vector<trust::Delta> chain;
  std::vector<std::string> chain_texts;
  std::optional<Source> before;
  Source after;
  std::optional<TrustedRepository> trusted;
  bool done = false;
  std::optional<bool> is_sound{};  // is the index in the cache the one that was verified? Nothing: not looked at yet
  std::string cached{};            // that index, where it was read for this; without its deltas

  /// Of a signed repository: is what came signed, fresh, and number `version` (if that is known)?
  void verify(trust::Root::Of role, std::int64_t now, std::optional<std::uint64_t> version = std::nullopt);
  /// Was what the cache has verified as it would be now?
  bool is_verified_by_same_root() const;
  /// Is what came the timestamp that was seen before?
  bool is_known() const { return before && before->timestamp == sha256(text); }
  /// Is what the cache knows all that there is to compare with? Of a signed repository it is not.
  bool compares_with_cache() const { return before && !trusted; }
  /// What the server says of the timestamp, to be asked by next time.
  void note_validators(const Request& request, std::int64_t now);
  /// For messages.
  std::string where() const;
};

/// Is the index in the cache still the one that was verified? Read only where its file was touched since, or where no
/// compiled catalogue stands for it; once.
bool is_sound(os::FileReader& root, Step& step, bool compiled);
/// Where all of them have to be read: several at once. What can't be read is told where it is asked about.
void look_at_cached(os::FileReader& root, std::vector<Step>& steps);

/// Throws what is wrong with what came: then the next mirror is asked.
using Check = std::function<void(Step&)>;

/// As it is told: with something to do, and of a repository that is trusted whatever is malformed is not believed.
Error told(const Error& problem, bool is_trusted);

/// Fetches what comes next of these steps; failures end their step only. Where there is nothing it is asked for at the
/// other place that it may have.
void fetch_next(Network& network, std::vector<Step*> asking, Observer& observer, const Check& check);
/// Of every step that is not done.
void fetch_round(Network& network, std::vector<Step>& steps, Observer& observer, const Check& check);

/// The deltas from the index that the cache has to this one, where they are less than the whole index, and all deltas
/// since the last whole one still are; `bytes`: of those that the cache has. Empty: there are none.
std::vector<trust::Delta> chain_to(const trust::Pointer& index, const std::vector<trust::Delta>& deltas,
                                   const Source& before, std::uint64_t bytes);
/// Fetches the chains of steps that are not done; where one of them fails, the whole index is fetched instead.
void fetch_chains(Network& network, std::vector<Step>& steps, Observer& observer);

/// Does some work for each step that is not done; a failure ends that step only.
void for_each_open(std::vector<Step>& steps, const std::function<void(Step&)>& work);

}  // namespace hambrel::repo
