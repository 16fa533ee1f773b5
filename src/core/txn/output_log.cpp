#include "txn/output_log.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "os/preview.h"

namespace hambrel::txn {

namespace {

constexpr std::size_t kLogsKept = 20;
constexpr std::uint64_t kMostOutput = 64 << 20;  // of one; what comes after that is lost

std::string path_of(state::TxnId id) { return fmt::format("{}/{}.log", kLogs, number(id)); }

}  // namespace

std::string log_of(os::FileReader& root, state::TxnId id) {
  const std::string path = path_of(id);
  return root.stat(path) ? path : std::string();
}

std::string without_secrets(std::string text, const std::vector<std::string>& secrets) {
  for (const std::string& secret : secrets)
    for (std::size_t at = 0; (at = text.find(secret, at)) != std::string::npos; at += 3)
      text.replace(at, secret.size(), "***");
  return text;
}

void OutputLog::begin(const std::string& program) {
  title_ = fmt::format("== {}\n", printable(program));
  waits_.clear();
  much_ = false;
}

void OutputLog::add(std::string_view text) {
  waits_ += text;
  if (!much_ && waits_.size() <= os::kKeptOutput) return;
  if (!much_) write(title_);
  much_ = true;
  // a secret never has a line's end in it; a line without end is written all the same
  std::size_t end = waits_.rfind('\n');
  if (end == std::string::npos && waits_.size() > os::kKeptOutput) end = waits_.size() - 1;
  if (end == std::string::npos) return;
  write(waits_.substr(0, end + 1));
  waits_.erase(0, end + 1);
}

void OutputLog::end() {
  if (much_) write(waits_);
  waits_.clear();
}

/// What can't be written, as the disk is full, say, is no reason to give up the transaction.
void OutputLog::write(std::string text) {
  if (failed_ || written_ > kMostOutput) return;
  try {
    if (file_ == nullptr) open();
    text = without_secrets(std::move(text), secrets_);
    file_->write(text);
    written_ += text.size();
  } catch (const Error& problem) {
    failed_ = true;
    env_.observer.note(fmt::format("what programs print could not be logged: {}", problem.what()));
  }
}

void OutputLog::open() {
  const state::TxnId id = env_.state.next_id();
  env_.root.make_directories(kLogs);
  std::vector<std::int64_t> known;
  for (const std::string& name : env_.root.list(kLogs))
    if (const auto one = name.ends_with(".log") ? parse_number(name.substr(0, name.size() - 4)) : std::nullopt)
      known.push_back(static_cast<std::int64_t>(*one));
  std::sort(known.rbegin(), known.rend());
  for (std::size_t i = kLogsKept - 1; i < known.size(); ++i) env_.root.remove_file(path_of(state::TxnId{known[i]}));
  if (const std::string path = path_of(id); env_.root.stat(path)) env_.root.remove_file(path);
  file_ = env_.root.create(path_of(id), 0600);
}

}  // namespace hambrel::txn
