// The hard constraints of a request as clauses over "this package version is installed in the end".
//
// Only the cone is encoded: what is installed or asked for, and whatever can be reached from there through relations.
// With `explain` every statement gets a selector variable, so that a refutation tells which statements it needs.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "solve/cdcl.h"
#include "solve/request.h"

namespace hambrel::solve {

class Encoding {
 public:
  Encoding(const Universe& universe, const Request& request, bool explain);

  Cdcl& engine() { return engine_; }
  bool has(PackageId id) const { return variables_[index_of(id)] != kNone; }
  Lit lit(PackageId id) const { return positive(variables_[index_of(id)]); }
  const std::vector<PackageId>& cone() const { return cone_; }  // ascending
  bool may_choose(PackageId id) const;
  /// Versions of a name in the order of preference: what is installed or followed first, each newest first.
  std::vector<PackageId> preferred(std::string_view name) const;
  /// What could take over for an installed package because it replaces it.
  std::vector<PackageId> replacers(PackageId installed) const;
  /// A literal that implies that one of the packages is chosen.
  Lit one_of(const std::vector<PackageId>& ids);
  /// A literal that implies that none of the packages is chosen.
  Lit none_of(const std::vector<PackageId>& ids);
  std::vector<PackageId> chosen() const;  // by the last model

  // with explain
  const std::vector<Lit>& selectors() const { return selectors_; }
  const Cause& cause(Lit selector) const { return causes_.at(selector.code); }

 private:
  static constexpr Var kNone = UINT32_MAX;

  void collect();
  void reach(PackageId id, std::vector<PackageId>& queue);
  void make_variables();
  void encode_request();
  void encode_wanted();
  void encode_package(PackageId id);
  void encode_one_version(const std::string& name);
  void state(Cause::Kind kind, const std::string& name, const std::string& relation, std::optional<PackageId> subject,
             const std::vector<PackageId>& others, std::vector<Lit> clause);
  std::vector<Lit> lits(const std::vector<PackageId>& ids) const;
  std::vector<PackageId> in_cone(std::vector<PackageId> ids) const;

  const Universe& universe_;
  const Request& request_;
  bool explain_;
  Cdcl engine_;
  std::vector<bool> reached_;
  std::vector<Var> variables_;
  std::vector<PackageId> cone_;
  std::map<std::string, std::vector<PackageId>, std::less<>> replacing_;  // name -> candidates that replace it
  std::vector<Lit> selectors_;
  std::map<std::string, Lit> selector_of_;
  std::map<std::uint32_t, Cause> causes_;
};

}  // namespace hambrel::solve
