// All that programs of packages print in a transaction, where it is more than the ledger keeps of it: a file for each
// such transaction, of which the newest are kept.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "txn/environment.h"

namespace hambrel::txn {

inline constexpr const char* kLogs = "var/lib/hambrel/logs";

/// The file of a transaction; empty: none was written, or it is gone.
std::string log_of(os::FileReader& root, state::TxnId id);

/// With "***" for each secret.
std::string without_secrets(std::string text, const std::vector<std::string>& secrets);

class OutputLog {
 public:
  OutputLog(const Environment& environment, const std::vector<std::string>& secrets)
      : env_(environment), secrets_(secrets) {}
  OutputLog(const OutputLog&) = delete;
  OutputLog& operator=(const OutputLog&) = delete;

  void begin(const std::string& program);
  void add(std::string_view text);
  void end();

 private:
  void write(std::string text);
  void open();

  const Environment& env_;
  const std::vector<std::string>& secrets_;
  std::string title_, waits_;  // what is not written yet
  bool much_ = false;          // this program has printed more than the ledger keeps
  bool failed_ = false;
  std::uint64_t written_ = 0;  // bytes
  std::unique_ptr<os::WritableFile> file_;
};

}  // namespace hambrel::txn
