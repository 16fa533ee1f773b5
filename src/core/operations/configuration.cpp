#include "operations/configuration.h"

#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "base/text.h"
#include "operations/supply.h"
#include "os/host.h"
#include "txn/settle.h"

namespace hambrel::operations {

namespace {

/// The file that a path names.
const ConfigFile& file_at(const std::vector<ConfigFile>& files, const std::string& given) {
  const std::string path = os::host_path(given);
  const auto found = std::find_if(files.begin(), files.end(), [&](const ConfigFile& one) { return one.path == path; });
  if (found != files.end()) return *found;
  std::vector<std::string> paths;
  for (const ConfigFile& one : files) paths.push_back("/" + one.path);
  const std::string near = did_you_mean("/" + path, paths);
  throw Error(ErrorCode::NotFound, "is not a configuration file of a package", "/" + printable(path),
              near.empty() ? "`hambrel configs` lists them" : near);
}

ConfigComparison::Against parse_against(const std::string& word, bool waits) {
  if (word.empty()) return waits ? ConfigComparison::Against::Mine : ConfigComparison::Against::Old;
  if (word == "mine") return ConfigComparison::Against::Mine;
  if (word == "old") return ConfigComparison::Against::Old;
  if (word == "new") return ConfigComparison::Against::New;
  throw Error(ErrorCode::Usage, fmt::format("--against {}: must be mine, old or new", printable(word)));
}

}  // namespace

std::vector<ConfigFile> configuration_files(Root& root) {
  const state::State* const state = root.state();
  return state == nullptr ? std::vector<ConfigFile>() : txn::configuration_files(root.files(), *state);
}

ConfigComparison compare_configuration(Root& root, const std::string& path, const std::string& against) {
  const auto files = configuration_files(root);
  ConfigComparison result;
  result.file = file_at(files, path);
  result.against = parse_against(against, result.file.state == ConfigState::Waiting);
  const auto [base, mine, theirs] = txn::texts_of(root.files(), result.file);
  const bool to_theirs = result.against == ConfigComparison::Against::Mine;
  const bool from_base = result.against == ConfigComparison::Against::Old;
  const auto& other = from_base ? base : theirs;
  const auto& before = to_theirs ? mine : other;
  const auto& after = to_theirs ? theirs : mine;
  const auto require = [&](const std::optional<std::string>& text, const char* whose) {
    if (!text)
      throw Error(ErrorCode::Refused, fmt::format("{} is missing or not text", whose), "/" + result.file.path,
                  "`hambrel configs` shows the state of each file");
  };
  require(mine, "your version");
  require(before, from_base ? "the version yours is based on" : "the package's version");
  require(after, "the package's version");
  result.before = *before;
  result.after = *after;
  result.lines = diff(result.before, result.after);
  return result;
}

namespace {

class Settlement {
 public:
  Settlement(Root& root, std::vector<ConfigFile> files, PlannedTerms terms)
      : root_(root),
        files_(std::move(files)),
        terms_(std::move(terms)),
        supply_(std::make_shared<VersionFiles>(root)) {}

  txn::Planned plan(const Decisions& decisions) const {
    return txn::plan_settle(root_.files(), require_state(root_), files_, decisions, supply_->file_of());
  }
  /// Of a leftover, or of what is as its package brought it, this tells why it can't be settled.
  void require_settleable() const {
    for (const ConfigFile& one : files_)
      if (one.state == ConfigState::Leftover || one.state == ConfigState::Pristine)
        std::ignore = txn::plan_settle(root_.files(), require_state(root_), {one},
                                       {{one.path, {plan::ConfigAction::Take, {}}}}, supply_->file_of());
  }
  std::vector<ConfigQuestion> questions() const {
    std::vector<ConfigQuestion> questions;
    for (const ConfigFile& one : files_)
      questions.push_back({one.path, one.package.package.title(), txn::texts_of(root_.files(), one),
                           one.state == ConfigState::Waiting});
    return questions;
  }
  std::unique_ptr<Proposal> propose(const Decisions& decisions, const std::vector<plan::Notice>& notices) const {
    txn::Planned planned = plan(decisions);
    planned.plan.notices.insert(planned.plan.notices.end(), notices.begin(), notices.end());
    return operations::propose(root_, std::move(planned), terms_, supply_);
  }
  const PlannedTerms& terms() const { return terms_; }

 private:
  Root& root_;
  std::vector<ConfigFile> files_;
  PlannedTerms terms_;
  std::shared_ptr<VersionFiles> supply_;
};

/// With questions that are open: nothing else is known of it yet.
class OpenSettlement final : public Proposal {
 public:
  OpenSettlement(Parts parts, Settlement settlement, ConfigDecisions found)
      : Proposal(std::move(parts)), settlement_(std::move(settlement)), found_(std::move(found)) {}

  std::unique_ptr<Proposal> decided(Decisions answers, GivenAnswers) override {
    answers.insert(found_.choices.begin(), found_.choices.end());
    return settlement_.propose(answers, found_.notices);
  }

  static std::unique_ptr<Proposal> make(Settlement settlement, ConfigDecisions found) {
    Parts parts;
    parts.plan = settlement.plan(found.choices).plan;
    for (const ConfigQuestion& one : found.open)
      parts.plan.configs.push_back({plan::ConfigAction::Ask, one.path, one.package});
    parts.questions = std::move(found.open);
    parts.end = settlement.terms().end;
    return std::make_unique<OpenSettlement>(std::move(parts), std::move(settlement), std::move(found));
  }

 private:
  Outcome carry_out(ChangingRoot&, const Terms&) override { throw Error(ErrorCode::Internal, "it needs a decision"); }

  const Settlement settlement_;
  const ConfigDecisions found_;
};

}  // namespace

std::unique_ptr<Proposal> propose(Root& root, const SettleRequest& request) {
  require_state(root);
  const auto files = configuration_files(root);
  std::vector<ConfigFile> chosen;
  for (const std::string& path : request.paths) chosen.push_back(file_at(files, path));
  if (request.paths.empty())
    for (const ConfigFile& one : files)
      if (one.state == ConfigState::Waiting) chosen.push_back(one);
  Settlement settlement(root, std::move(chosen), request.planned);
  settlement.require_settleable();
  ConfigTerms terms = request.terms;
  terms.heed_settings = false;
  ConfigDecisions found = decide(root, settlement.questions(), terms);
  if (!found.open.empty()) return OpenSettlement::make(std::move(settlement), std::move(found));
  return settlement.propose(found.choices, found.notices);
}

}  // namespace hambrel::operations
