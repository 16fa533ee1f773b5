#include "repo/digest_batch.h"

#include <chrono>
#include <cstdint>
#include <span>
#include <utility>

#include "base/parallel.h"

namespace hambrel::repo {

DigestBatch::DigestBatch(std::vector<Open> files, std::function<void()> done)
    : results_(files.size()), working_(aside([this, files = std::move(files), done = std::move(done)] {
        work(files);
        is_done_ = true;
        done();
      })) {}

bool DigestBatch::is_ready() const { return is_done_ || !working_.has_thread(); }

std::vector<DigestBatch::Result> DigestBatch::results() {
  working_.get();
  return std::move(results_);
}

void DigestBatch::work(const std::vector<Open>& files) {
  std::vector<MessageToRead> messages;
  for (std::size_t i = 0; i < files.size(); ++i) {
    std::optional<Error>& problem = results_[i].problem;
    MessageToRead content;
    try {
      content = files[i]();
    } catch (const Error& told) {
      problem = told;
    }
    messages.push_back({content.size, [&problem, read = content.read](std::uint64_t at, std::span<std::byte> into) {
                          if (problem) return;
                          try {
                            read(at, into);
                          } catch (const Error& told) {
                            problem = told;
                          }
                        }});
  }
  const std::vector<Digest> digests = sha256_of_each(messages);
  for (std::size_t i = 0; i < files.size(); ++i) results_[i].digest = digests[i];
}

}  // namespace hambrel::repo
