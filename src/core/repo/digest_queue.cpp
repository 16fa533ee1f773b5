#include "repo/digest_queue.h"

#include <algorithm>
#include <cstdint>
#include <iterator>
#include <span>
#include <system_error>
#include <utility>

#include "base/assert.h"
#include "base/parallel.h"

namespace hambrel::repo {

namespace {

using Clock = std::chrono::steady_clock;

constexpr std::chrono::milliseconds kLongest{50};  // that a file waits for others

/// A message of which nothing more is read after the first problem; that is left there.
MessageToRead until_problem(const DigestQueue::Open& open, std::optional<Error>& problem) {
  MessageToRead content;
  try {
    content = open();
  } catch (const Error& told) {
    problem = told;
    return {};
  }
  return {content.size, [&problem, read = content.read](std::uint64_t at, std::span<std::byte> into) {
            if (problem) return;
            try {
              read(at, into);
            } catch (const Error& told) {
              problem = told;
            }
          }};
}

}  // namespace

DigestQueue::DigestQueue(std::size_t together, std::function<void()> told)
    : together_(together), told_(std::move(told)) {
  HAMBREL_ASSERT(together > 0, "some file may be open");
}

DigestQueue::~DigestQueue() {
  {
    const std::lock_guard lock(mutex_);
    ended_ = true;
  }
  changed_.notify_all();
  if (thread_.joinable()) thread_.join();
}

void DigestQueue::add(std::size_t number, Open file) {
  {
    const std::lock_guard lock(mutex_);
    is_last_ = false;
    waiting_.push_back({number, std::move(file), Clock::now()});
  }
  if (!thread_.joinable()) {
    try {
      thread_ = begin_thread([this] { run(); });
    } catch (const std::system_error&) {  // help() does it
    }
  }
  changed_.notify_all();
}

std::vector<DigestQueue::Result> DigestQueue::take() {
  const std::lock_guard lock(mutex_);
  return std::exchange(results_, {});
}

void DigestQueue::help() {
  {
    const std::lock_guard lock(mutex_);
    is_last_ = true;
  }
  changed_.notify_all();
  for (;;) {
    std::vector<Waiting> files;
    {
      const std::lock_guard lock(mutex_);
      files = next();
    }
    if (files.empty()) return;
    work(std::move(files));
  }
}

void DigestQueue::run() {
  std::unique_lock lock(mutex_);
  while (!ended_) {
    if (waiting_.empty()) {
      changed_.wait(lock);
      continue;
    }
    const auto until = waiting_.front().since + kLongest;
    if (waiting_.size() < together_ && !is_last_ && Clock::now() < until) {
      changed_.wait_until(lock, until);
      continue;
    }
    std::vector<Waiting> files = next();
    lock.unlock();
    work(std::move(files));
    told_();
    lock.lock();
  }
}

/// Taken off what waits, with the mutex locked.
std::vector<DigestQueue::Waiting> DigestQueue::next() {
  const auto last = waiting_.begin() + static_cast<std::ptrdiff_t>(std::min(waiting_.size(), together_));
  std::vector<Waiting> files(std::make_move_iterator(waiting_.begin()), std::make_move_iterator(last));
  waiting_.erase(waiting_.begin(), last);
  return files;
}

void DigestQueue::work(std::vector<Waiting> files) {
  std::vector<Result> results(files.size());
  try {
    std::vector<MessageToRead> messages;
    for (std::size_t i = 0; i < files.size(); ++i) {
      results[i].number = files[i].number;
      messages.push_back(until_problem(files[i].open, results[i].problem));
    }
    const std::vector<Digest> digests = sha256_of_each(messages);
    for (std::size_t i = 0; i < files.size(); ++i) results[i].digest = digests[i];
  } catch (...) {  // of memory: none of them is known
    const Error problem = current_error();
    for (std::size_t i = 0; i < files.size(); ++i) results[i] = {files[i].number, {}, problem};
  }
  const std::lock_guard lock(mutex_);
  std::move(results.begin(), results.end(), std::back_inserter(results_));
}

}  // namespace hambrel::repo
