// How the core tells of work that takes a while. The core never prints: the program draws what it is told here.
#pragma once

#include <cstdint>
#include <string_view>

namespace hambrel {

/// All calls come from one thread at a time. Every begin() is followed by end(), also when the work fails.
class Observer {
 public:
  enum class Unit { Bytes, Items };
  virtual ~Observer() = default;
  /// A piece of work of `total` units (0: unknown) starts.
  virtual void begin(std::string_view /*activity*/, std::uint64_t /*total*/, Unit /*unit*/) {}
  /// `done` units of the present piece are done, counted from its start.
  virtual void progress(std::uint64_t /*done*/) {}
  /// The package or file that is worked on now, for people; followed by progress().
  virtual void at(std::string_view /*name*/) {}
  virtual void end() {}
  /// Something worth a line of its own, though nothing failed.
  virtual void note(std::string_view /*text*/) {}
};

/// Ends the present piece of work, however it is left.
class [[nodiscard]] EndOfProgress {
 public:
  explicit EndOfProgress(Observer& observer) : observer_(observer) {}
  ~EndOfProgress() { observer_.end(); }
  EndOfProgress(const EndOfProgress&) = delete;
  EndOfProgress& operator=(const EndOfProgress&) = delete;

 private:
  Observer& observer_;
};

}  // namespace hambrel
