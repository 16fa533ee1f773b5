// Each use case through the library alone: no program, no terminal.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <tuple>
#include <type_traits>

#include "operations/activating.h"
#include "operations/change.h"
#include "operations/checkpoints.h"
#include "operations/configuration.h"
#include "operations/downgrading.h"
#include "operations/freeable.h"
#include "operations/going_back.h"
#include "operations/ledger.h"
#include "operations/leftovers.h"
#include "operations/looking.h"
#include "operations/publishing.h"
#include "operations/repositories.h"
#include "operations/select.h"
#include "operations/shelf.h"
#include "operations/verifying.h"
#include "support/program.h"

namespace hambrel::operations {

namespace fs = std::filesystem;
using test::read_file;
using test::write_file;

static_assert(!std::is_convertible_v<Root&, ChangingRoot&>, "who only looks can't change");

namespace {

/// What is told, for the tests to look at.
class Notes final : public Observer {
 public:
  void note(std::string_view text) override { all.emplace_back(text); }
  std::vector<std::string> all;
};

class Operations : public testing::Test {
 protected:
  void SetUp() override {
    pack("lamp", "1-1", "[config]\nfiles = [\"etc/*\"]\n", {{"usr/bin/lamp", "one"}, {"etc/lamp", "a\nb\nc\nd\n"}});
    pack("lamp", "2-1", "[config]\nfiles = [\"etc/*\"]\n", {{"usr/bin/lamp", "two"}, {"etc/lamp", "a\nb\nc\nD\n"}});
    pack("horn", "1-1", "[relations]\nconflicts = [\"lamp\"]\n", {{"usr/bin/horn", "h"}});
    pack("desk", "1-1", "[relations]\nrequires = [\"lamp\"]\n", {{"usr/bin/desk", "d"}});
    publish({.directory = repository()}, notes);
    const auto files = os::open_file_system(system.text());
    settings::add_repository(*files, {"base", "file://" + repository(), {"stable"}, true, 50, "", true});
    Root root(options(), notes);
    ASSERT_FALSE(refresh(root, {})[0].problem);
  }

  void pack(const std::string& name, const std::string& version, const std::string& more,
            const std::map<std::string, std::string>& files) {
    const fs::path source = work / (name + "-" + version);
    for (const auto& [path, content] : files) write_file(source / "root" / path, content);
    write_file(source / "package.toml", "name = \"" + name + "\"\nversion = \"" + version +
                                            "\"\narch = \"independent\"\nsummary = \"s\"\n" + more);
    const fs::path to = fs::path(repository()) / "packages" / name / (version + ".independent.hambrel");
    fs::create_directories(to.parent_path());
    operations::pack({source.string(), to.string()}, notes);
  }
  std::string repository() const { return (work / "repository").string(); }
  RootOptions options() const {
    RootOptions options;
    options.path = system.text();
    options.command = "a test";
    return options;
  }
  ChangeRequest install(Root& root, const std::string& spec) {
    ChangeRequest request;
    request.kind = "install";
    request.solve.install.push_back({spec, select(root, parse_specs({spec})[0])});
    return request;
  }
  static std::unique_ptr<Proposal> met(Proposed proposed) {
    return std::move(std::get<std::unique_ptr<Proposal>>(proposed.result));
  }
  /// Performs it; something is done.
  static void done(ChangingRoot& root, Proposal& proposal) {
    const Outcome outcome = proposal.perform(root, {});
    EXPECT_TRUE(outcome.transaction || outcome.end == End::Prepare);
  }
  state::TxnId installed(const std::string& spec) {
    ChangingRoot root(options(), notes, 0);
    return *met(propose(root, install(root, spec)))->perform(root, {}).transaction;
  }
  std::string packages() {
    Root root(options(), notes);
    std::string text;
    for (const auto& one : require_state(root).installed()) text += one.package.title() + " ";
    return text;
  }
  std::string content(const std::string& path) const { return read_file(system / path); }

  test::TempDir work, system;
  Notes notes;
};

}  // namespace

TEST_F(Operations, APlanIsAValueThatIsPerformedAndTakenBack) {
  ChangingRoot root(options(), notes, 0);
  const auto proposal = met(propose(root, install(root, "desk")));
  ASSERT_EQ(proposal->plan().count(plan::Action::Install), 2U);
  EXPECT_FALSE(fs::exists(system / "usr/bin/desk")) << "proposed, not done";
  Terms terms;
  terms.reason = "the desk is needed";
  const Outcome outcome = proposal->perform(root, terms);
  EXPECT_EQ(content("usr/bin/desk"), "d");
  EXPECT_EQ(root.state()->ledger_entry(*outcome.transaction)->note, "the desk is needed");
  done(root, *propose_undo(root, *outcome.transaction, {}));
  EXPECT_FALSE(fs::exists(system / "usr/bin/desk"));
  done(root, *propose_redo(root, *outcome.transaction, {}));
  EXPECT_EQ(content("usr/bin/desk"), "d");
  const auto back = propose(root, RollbackRequest{"2"});
  EXPECT_FALSE(back->does_nothing());
  done(root, *back);
  EXPECT_EQ(packages(), "");
  EXPECT_TRUE(propose(root, RollbackRequest{"2"})->does_nothing());
}

TEST_F(Operations, ARefusalIsAValueWithRemediesThatCanBeTaken) {
  installed("lamp=1");
  ChangingRoot root(options(), notes, 0);
  const auto proposed = propose(root, install(root, "horn"));
  const auto& refused = std::get<Refused>(proposed.result);
  const auto remedies = remedies_for(root, refused).remedies;
  ASSERT_EQ(remedies.size(), 1U);
  EXPECT_EQ(remedies[0].command(), "hambrel change --install horn --remove lamp");
  done(root, *met(propose(root, take(root, refused, remedies[0]))));
  EXPECT_EQ(packages(), "horn 1-1 ");
}

TEST_F(Operations, ConfigurationIsAQuestionWithItsMaterial) {
  installed("lamp=1");
  write_file(system / "etc/lamp", "A\nb\nc\nd\n");
  ChangingRoot root(options(), notes, 0);
  ChangeRequest request = install(root, "lamp=2");
  request.configuration.may_ask = true;
  const auto proposal = met(propose(root, request));
  ASSERT_EQ(proposal->questions().size(), 1U);
  const ConfigQuestion question = proposal->questions()[0];
  EXPECT_EQ(question.path, "etc/lamp");
  EXPECT_EQ(question.texts.theirs, "a\nb\nc\nD\n");
  ASSERT_TRUE(question.merges_cleanly());
  EXPECT_EQ(proposal->plan().configs.at(0).action, plan::ConfigAction::Ask);
  EXPECT_THROW(proposal->perform(root, {}), Error) << "a question is open";
  const auto decided = proposal->decided({{question.path, {plan::ConfigAction::Merge, question.merged->text}}});
  EXPECT_TRUE(decided->questions().empty());
  EXPECT_EQ(decided->plan().configs.at(0).action, plan::ConfigAction::Merge);
  EXPECT_EQ(proposal->plan().configs.at(0).action, plan::ConfigAction::Ask) << "a proposal never changes";
  done(root, *decided);
  EXPECT_EQ(content("etc/lamp"), "A\nb\nc\nD\n");
}

TEST_F(Operations, WhatWaitsIsSettledByDecisions) {
  installed("lamp=1");
  write_file(system / "etc/lamp", "A\nb\nc\nd\n");
  installed("lamp=2");
  ChangingRoot root(options(), notes, 0);
  ASSERT_EQ(configuration_files(root).at(0).state, ConfigState::Waiting);
  EXPECT_EQ(compare_configuration(root, "/etc/lamp", "old").before, "a\nb\nc\nd\n");
  SettleRequest request;
  request.terms.may_ask = true;
  const auto open = propose(root, request);
  ASSERT_EQ(open->questions().size(), 1U);
  const auto settled = open->decided({{"etc/lamp", {plan::ConfigAction::Take, {}}}});
  EXPECT_EQ(settled->plan().kind, "settle");
  const auto id = *settled->perform(root, {}).transaction;
  EXPECT_EQ(content("etc/lamp"), "a\nb\nc\nD\n");
  const LedgerDetail detail = ledger_detail(root, id);
  EXPECT_EQ(detail.plan.configs.at(0).action, plan::ConfigAction::Take);
  EXPECT_EQ(ledger(root, {}, 1).at(0).plan.configs.at(0).path, "etc/lamp");
  EXPECT_TRUE(propose(root, SettleRequest{})->does_nothing());
}

TEST_F(Operations, LookingTellsWhoNeedsWhomAndWhy) {
  installed("desk");
  Root root(options(), notes);
  const auto spec = parse_specs({"lamp"})[0];
  EXPECT_EQ(needed_by(root, spec, 0).size(), 2U);
  EXPECT_EQ(why(root, spec).chain.size(), 2U);
  EXPECT_EQ(std::get<std::vector<TreeLine>>(needs(root, parse_specs({"desk"})[0], 0)).size(), 2U);
  EXPECT_TRUE(std::holds_alternative<Refused>(why(root, parse_specs({"horn"})[0]).otherwise));
  EXPECT_THAT(owners_of(root, "usr/bin/lamp"), testing::ElementsAre("lamp"));
  EXPECT_EQ(older_versions(root, spec).all.size(), 1U);
  EXPECT_EQ(changed_packages(root, {.package = "l*"}, 10).size(), 1U);
  EXPECT_EQ(freeable(root).at(2).count, 2U) << "two package files in the cache";
}

TEST_F(Operations, MarksTheShelfAndLeftoversAreProposalsLikeAnyOther) {
  installed("lamp=1");
  write_file(system / "etc/lamp", "edited\n");
  ChangingRoot root(options(), notes, 0);
  MarkRequest hold;
  hold.action = plan::Action::Hold;
  hold.names = {"lamp"};
  hold.reason = "it flickers";
  done(root, *propose(root, hold));
  EXPECT_EQ(root.state()->installed()[0].hold->reason, "it flickers");
  root.renew();
  EXPECT_THROW(std::ignore = propose_shelve(root, parse_specs({"lamp"}), {}), Error);
  hold.action = plan::Action::Release;
  done(root, *propose(root, hold));
  root.renew();
  done(root, *propose_shelve(root, parse_specs({"lamp"}), {}));
  EXPECT_FALSE(fs::exists(system / "usr/bin/lamp"));
  root.renew();
  ChangeRequest back;
  back.kind = "unshelve";
  add_unshelved(root, parse_specs({"lamp"}), back);
  done(root, *met(propose(root, back)));
  EXPECT_EQ(content("usr/bin/lamp"), "one");
  root.renew();
  ChangeRequest away;
  away.kind = "remove";
  away.solve.remove = {"lamp"};
  done(root, *met(propose(root, away)));
  ASSERT_EQ(leftovers_of(root).size(), 1U);
  done(root, *propose_purge(root, leftovers_of(root), {}));
  EXPECT_FALSE(fs::exists(system / "etc/lamp"));
}

TEST_F(Operations, WhatIsPreparedWaitsAndWhatIsDamagedIsRepaired) {
  ChangingRoot root(options(), notes, 0);
  ChangeRequest request = install(root, "lamp=1");
  request.end = End::Prepare;
  EXPECT_GT(met(propose(root, request))->perform(root, {}).staged, 0U);
  EXPECT_FALSE(fs::exists(system / "usr/bin/lamp"));
  EXPECT_TRUE(activate(root, *prepared(root), false, [] { return false; }).transaction);
  EXPECT_EQ(content("usr/bin/lamp"), "one");
  write_file(system / "usr/bin/lamp", "damaged");
  root.renew();
  const Verification found = verify(root, {}, txn::Depth::Content);
  EXPECT_EQ(found.files.damaged(), 1U);
  done(root, *propose_repair(root, found, {}));
  EXPECT_EQ(content("usr/bin/lamp"), "one");
}

TEST_F(Operations, CheckpointsCacheAndAtticAreKeptAndGivenUp) {
  installed("lamp=1");
  installed("lamp=2");
  ChangingRoot root(options(), notes, 0);
  make_checkpoint(root, "evening", "before the storm");
  EXPECT_TRUE(is_checkpoint(root, "evening"));
  drop_checkpoint(root, "evening");
  CacheRequest request;
  request.all = true;
  const auto cache = propose_dropping(root, request);
  EXPECT_EQ(cache.goes.size(), 2U);
  drop(root, cache);
  EXPECT_EQ(propose_dropping(root, request).files, 0U);
  const auto attic = propose_giving_up(root, {1, {}, {}});
  ASSERT_EQ(attic.goes.size(), 1U);
  give_up(root, attic, "");
  EXPECT_EQ(test::refusal([&] { std::ignore = propose_undo(root, state::TxnId{1}, {}); }).substr(0, 5), "trans");
}

}  // namespace hambrel::operations
