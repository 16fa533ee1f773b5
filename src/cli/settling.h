// Deciding what becomes of configuration that both sides changed: by --configs, by the settings, or asked on the
// terminal, all files in one place and before anything is changed.
#pragma once

#include "base/merge.h"
#include "cli/session.h"
#include "txn/settle.h"

namespace hambrel::cli {

struct Question {
  std::string path, package;  // "tidewatch 2.0-1 -> 2.1-1"
  txn::ConfigTexts texts;
  bool news = true;                // the package's version is another than the one that the administrator's began from
  std::optional<Merged> merged{};  // what both changes come to, where that can be known; Settling fills it in
};

/// keep, take, merge or wait; throws Error{Usage} for anything else.
plan::ConfigAction parse_config_action(const std::string& word);

class Settling {
 public:
  /// `settings`: heed them, too, not only --configs.
  Settling(Session& session, const Arguments& arguments, std::vector<Question> questions, bool settings = true);

  const std::vector<Question>& questions() const { return questions_; }
  /// What is decided without asking; where nobody can be asked, that is everything.
  const txn::Choices& decided() const { return decided_; }
  /// Paths that are still to be asked about.
  const std::set<std::string>& open() const { return open_; }
  /// Why a merge that was decided on is not to be had, for the plan.
  const std::vector<plan::Notice>& notices() const { return notices_; }
  /// Asks about what is open. Throws Error{Declined} at the end of the input.
  txn::Choices ask() const;

 private:
  void decide(const Question& question, plan::ConfigAction action, bool markers);
  void ask_one(const Question& question, const std::string& place, txn::Choices& answers, std::size_t clean_left) const;

  Session& session_;
  std::vector<Question> questions_;
  txn::Choices decided_;
  std::set<std::string> open_;
  std::vector<plan::Notice> notices_;
};

/// The questions that a change of packages brings: the packages' versions are read out of their files, in the cache or
/// in a repository, of which no more is fetched than that. `coming` are the entering packages, `before` their versions.
std::vector<Question> questions_of(Session& session, const std::vector<txn::Conflict>& conflicts,
                                   const std::vector<PackageId>& coming,
                                   const std::map<PackageId, std::shared_ptr<const archive::Table>>& tables,
                                   const plan::Plan& plan);

/// A diff, indented; at most so many lines, and how many are left out. 0: all.
void print_diff(const Screen& screen, const std::string& before, const std::string& after, std::size_t most);

}  // namespace hambrel::cli
