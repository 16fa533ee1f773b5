// The service manager of a root, behind one interface: systemd, runit, init scripts, or commands of the
// administrator's.
//
// Enabling is data: links below the root, which a transaction places like any others, on whatever root. Starting and
// stopping is done by the manager's own program, and only where the manager runs on the root that this process has:
// is_live().
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/actions.h"
#include "os/command.h"
#include "settings/settings.h"

namespace hambrel::services {

enum class State { Running, Stopped, Failed, Unknown };
std::string_view text_of(State state);

/// A link that makes a service start with the system. Path and target as in the root.
struct Link {
  std::string path, target;
};

struct Done {
  bool good = true;
  std::string said{};  // of what went wrong, in a few words
};

class Manager {
 public:
  virtual ~Manager() = default;
  virtual std::string_view name() const = 0;
  /// Does it run on this root now, so that services can be started and stopped?
  virtual bool is_live() const = 0;
  /// Any of these make it start with the system. None: it can't be told.
  virtual std::vector<Link> links_of(const Service& service) const = 0;
  /// Does it run what is enabled, and nothing else?
  virtual bool needs_link() const { return false; }

  virtual State state_of(const std::string& service) const = 0;
  virtual Done start(const std::string& service) = 0;
  virtual Done stop(const std::string& service) = 0;
  virtual Done restart(const std::string& service) = 0;
  virtual Done reload(const std::string& service) = 0;
  /// Numbers of its processes, as far as the manager tells.
  virtual std::vector<int> processes_of(const std::string& service) const = 0;
  /// Definitions of services were changed.
  virtual void read_again() {}
};

/// `exists`: is there something at this path of the root, or will there be? `here`: it is the root of this process.
/// nullptr: there is none, or none that is known.
[[nodiscard]] std::unique_ptr<Manager> manager_of(const settings::ServiceRules& rules,
                                                  const std::function<bool(const std::string&)>& exists, bool here);

}  // namespace hambrel::services
