// System accounts as lines of passwd, group, shadow and gshadow (passwd(5), shadow(5), group(5), gshadow(5)).
//
// The files are edited as text: lines that are not ours stay byte for byte, and each change of a line is told, so that
// it can be taken back even where somebody has edited the file since. Pure: no file is read or written here.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "model/actions.h"
#include "plan/plan.h"
#include "state/records.h"

namespace hambrel::rehearsal {

inline constexpr std::array<const char*, 4> kAccountFiles{"etc/passwd", "etc/group", "etc/shadow", "etc/gshadow"};

/// By path; a file that is not there is missing. shadow and gshadow are kept only where they are there.
using AccountTexts = std::map<std::string, std::string, std::less<>>;

class AccountBook {
 public:
  /// `lowest` to `highest`: the ids that may be given, both included. `today`: days since 1970, for shadow.
  AccountBook(AccountTexts texts, std::uint32_t lowest, std::uint32_t highest, std::int64_t today);

  /// Makes the account with its group, or takes the one that is there. Throws Error{Refused} where that does not fit:
  /// it is an ordinary person's, has another id than the package demands, or no id is left.
  void require(const Account& account, const std::string& package);
  /// Groups first that are accounts of their own; memberships last, so that they find each other in any order.
  void require(const std::vector<std::pair<const Account*, std::string>>& accounts);

  /// Takes an account out, and out of all groups. What is not there is left at that.
  void drop(const Account& account, const std::string& package);

  const AccountTexts& texts() const { return texts_; }
  const std::vector<state::LineChange>& changes() const { return changes_; }
  const std::vector<plan::AccountStep>& steps() const { return steps_; }
  /// All that are there now, by name.
  std::map<std::string, std::uint32_t> users() const;
  std::map<std::string, std::uint32_t> groups() const;

 private:
  void change(state::LineChange change);
  std::uint32_t make_group(const std::string& name, std::optional<std::uint32_t> wanted, const std::string& package);
  void join(const std::string& user, const std::string& group, const std::string& package);
  std::uint32_t free_id(std::optional<std::uint32_t> wanted) const;

  AccountTexts texts_;
  std::uint32_t lowest_, highest_;
  std::int64_t today_;
  std::vector<state::LineChange> changes_;
  std::vector<plan::AccountStep> steps_;
};

/// A text with a change of one line. What is there already, or gone already, changes nothing.
std::string with(const std::string& text, const state::LineChange& change);
/// The change that takes it back.
state::LineChange reverse_of(state::LineChange change);

}  // namespace hambrel::rehearsal
