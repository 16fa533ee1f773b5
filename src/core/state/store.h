// What the stores of a root's state have in common: one connection to one database, whose transactions are theirs
// together. A store knows its own tables; what changes several of them at once is State's.
#pragma once

namespace hambrel::state {

struct Connection;  // state_impl.h

class Store {
 protected:
  explicit Store(Connection& connection) : connection_(&connection) {}
  Connection* connection_;
};

}  // namespace hambrel::state
