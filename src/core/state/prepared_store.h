// What is prepared and waits to be activated.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class PreparedStore : protected Store {
 public:
  /// What waits to be activated.
  std::optional<Prepared> prepared() const;
  std::string prepared_value(std::int64_t id) const;
  std::int64_t next_prepared() const;
  struct Fate {
    std::optional<TxnId> activated;  // by which transaction; nothing while it waits
  };
  /// Nothing for what was discarded, or never was.
  std::optional<Fate> fate_of_prepared(std::int64_t id) const;
  /// New packages among the changes get their rows now, so that little is left to be recorded later; `value` is asked
  /// for after that.
  void prepare(const Prepared& prepared, std::vector<PackageChange>& changes,
               const std::function<std::string()>& value);
  void drop_prepared(std::int64_t id);
  void activate_at_boot(std::int64_t id, bool at_boot);

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
