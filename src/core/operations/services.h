// Services of packages: what a change means for them, what they are doing, and acting on one.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "operations/acting.h"
#include "operations/proposal.h"
#include "services/manager.h"

namespace hambrel::operations {

using ServiceState = services::State;
using services::text_of;

/// The service manager of a root; nullptr: there is none that is known. `planned`: what will be there then counts, too.
std::unique_ptr<services::Manager> service_manager(Root& root, const txn::Planned* planned = nullptr);

/// Adds what becomes of services to what is planned, and to its plan. Throws Error{Refused} where it can't be prepared.
void add_services(Root& root, txn::Planned& planned, const std::vector<rehearsal::Party>& parties,
                  const ActingTerms& terms);

/// What was done with a service stands in the ledger as a program of this and its name.
inline const std::string kServiceProgram = "service ";

struct ServiceLine {
  std::string name, package;
  ServiceState state = ServiceState::Unknown;
  std::optional<bool> enabled{};        // starts with the system; nothing where that can't be told
  std::vector<std::string> replaced{};  // files that it runs on and that were replaced since: it is due
};
struct ServiceList {
  std::string manager;  // its name; empty: none
  bool live = false;    // services can be started and stopped here
  std::vector<ServiceLine> lines;
  /// Programs that are of no service, and run on files that were replaced since.
  struct Other {
    int id = 0;
    std::string name, user;
    std::vector<std::string> replaced{};
    bool is_system = false;  // the first process of the machine: only a restart of that helps
  };
  std::vector<Other> others;
};
/// Of all installed packages, by name. `with_due`: what runs on files that were replaced is looked for, too.
ServiceList service_list(Root& root, bool with_due);

/// Is it still there a second after it was started? Some end at once.
services::Done settled(const services::Manager& manager, const std::string& service);

/// [services] failed = "undo".
bool are_failures_undone(Root& root);

enum class ServiceAction { Start, Stop, Restart, Reload };
/// Throws Error{NotFound} for a service of no package, Error{Refused} where none can be acted on here.
ServiceDone act_on(Root& root, const std::string& name, ServiceAction action);

/// Whether it starts with the system: a change of links, as any other. Throws Error{NotFound}.
struct EnableRequest {
  std::string name;
  bool enable = true;
  End end = End::Switch;
};
[[nodiscard]] std::unique_ptr<Proposal> propose(Root& root, const EnableRequest& request);

}  // namespace hambrel::operations
