#include "operations/saved_plan.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/json.h"
#include "base/text.h"
#include "operations/change_proposal.h"
#include "operations/ledger.h"
#include "os/host.h"
#include "plan/plan_record.h"
#include "repo/download.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kPlanFormat = 1, kMostPlanBytes = 256ULL << 20;

Json to_json(const solve::Names& names) { return std::vector<std::string>(names.begin(), names.end()); }

Json to_json(const Hold& hold) {
  return {{"since", hold.since}, {"until", hold.until}, {"reason", hold.reason}, {"user", hold.user}};
}

Hold hold_in(const JsonObject& object) {
  return {object.signed_number("since"), object.signed_number("until"), object.text("reason"), object.text("user")};
}

Json to_json(const MarkRequest& mark) {
  Json object = {{"action", static_cast<int>(mark.action)}, {"names", to_json(mark.names)}};
  if (mark.until) object["until"] = *mark.until;
  if (mark.reason) object["reason"] = *mark.reason;
  return object;
}

MarkRequest mark_in(const JsonObject& object) {
  MarkRequest mark;
  const std::uint64_t action = object.number("action");
  if (action > static_cast<std::uint64_t>(plan::Action::Release)) object.wrong("action", "one that is known");
  mark.action = static_cast<plan::Action>(action);
  for (const std::string& name : object.texts_or_none("names")) mark.names.insert(name);
  if (object.has("until")) mark.until = object.signed_number("until");
  if (object.has("reason")) mark.reason = object.text("reason");
  return mark;
}

Json to_json(const ChangeRequest& request) {
  Json object = {{"kind", request.kind},
                 {"purge", request.purge},
                 {"purge_also", request.purge_also},
                 {"strict", request.strict},
                 {"without_hooks", request.acting.without_hooks},
                 {"allow_essential", to_json(request.solve.allow_essential)},
                 {"enables", request.enables}};
  if (request.hold) object["hold"] = to_json(*request.hold);
  for (const MarkRequest& mark : request.marks) object["marks"].push_back(to_json(mark));
  for (const state::PickChange& one : request.picks)
    object["picks"].push_back({{"path", one.path}, {"before", one.before}, {"after", one.after}});
  for (const state::FollowChange& one : request.follows)
    object["follows"].push_back({{"name", one.name}, {"before", one.before}, {"after", one.after}});
  return object;
}

ChangeRequest request_in(const JsonObject& object) {
  ChangeRequest request;
  request.kind = object.text("kind");
  request.purge = object.flag_or("purge", false);
  request.purge_also = object.texts_or_none("purge_also");
  request.strict = object.flag_or("strict", false);
  request.acting.without_hooks = object.flag_or("without_hooks", false);
  for (const std::string& name : object.texts_or_none("allow_essential")) request.solve.allow_essential.insert(name);
  request.enables = object.text_or("enables", "");
  if (object.has("marks"))
    for (const Json& one : object.member("marks")) request.marks.push_back(mark_in(JsonObject(one, object.where())));
  if (object.has("picks"))
    for (const Json& one : object.member("picks")) {
      const JsonObject change(one, object.where());
      request.picks.push_back({change.text("path"), change.text("before"), change.text("after")});
    }
  if (object.has("follows"))
    for (const Json& one : object.member("follows")) {
      const JsonObject change(one, object.where());
      request.follows.push_back({change.text("name"), change.text("before"), change.text("after")});
    }
  if (object.has("hold")) request.hold = hold_in(JsonObject(object.member("hold"), object.where()));
  return request;
}

/// For people who look into the file.
Json lines_of(const plan::Plan& plan) {
  Json lines = Json::array();
  for (const plan::Step& step : plan.steps)
    lines.push_back(
        fmt::format("{} {} {} {}: {}", plan::text_of(step.action), step.name, step.before.empty() ? "" : step.before,
                    step.after.empty() || step.after == step.before ? "" : "-> " + step.after, step.why.text()));
  for (const plan::FollowStep& step : plan.follows)
    lines.push_back(fmt::format("{} follows {}", step.name, step.text()));
  for (const plan::ConfigStep& step : plan.configs) lines.push_back(fmt::format("/{}: {}", step.path, step.text()));
  return lines;
}

/// The last entry of the ledger.
std::pair<state::TxnId, Digest> head_of(Root& root) {
  if (root.state() == nullptr) return {};
  const auto newest = ledger_entries(root, 1);
  return newest.empty() ? std::pair<state::TxnId, Digest>() : std::pair(newest[0].id, newest[0].digest);
}

std::string plan_anew(const SavedPlan& saved) {
  std::string command = "hambrel";
  for (const std::string& word : saved.command) command += " " + shell_quoted(word);
  return fmt::format("make a new plan: {} --save {}", command, shell_quoted(saved.file));
}

}  // namespace

void save_plan(Root& root, const Proposal& proposal, const CommandWords& command, const std::string& file) {
  HAMBREL_ASSERT(proposal.questions().empty() && proposal.questions_of_packages().empty(), "it is decided on");
  const auto [last, chain] = head_of(root);
  const plan::Plan& plan = proposal.plan();
  Json object = {{"hambrel_plan", kPlanFormat}, {"command", command},
                 {"made", utc_text(os::now())}, {"root", {{"transaction", number(last)}, {"sha256", chain.hex()}}},
                 {"lines", lines_of(plan)},     {"plan", Json::parse(plan::record_of(plan))}};
  if (const auto exact = proposal.exactly()) {
    Json packages = Json::array();
    std::vector<std::string> files;
    for (const plan::Step& step : plan.steps) {
      const bool comes = step.after_id && step.brings_files() && !root.universe()[*step.after_id].offers.empty();
      const Offer* const offer = comes ? &root.universe()[*step.after_id].offers.front() : nullptr;
      packages.push_back(offer != nullptr ? offer->digest.hex() : "");
      if (offer != nullptr && root.file_reader(*step.after_id) != nullptr)
        files.push_back(offer->local_path.find("://") != std::string::npos ? offer->local_path
                                                                           : "/" + os::host_path(offer->local_path));
    }
    Json decisions = Json::object();
    for (const auto& [path, choice] : exact->decisions)
      decisions[path] = {{"action", static_cast<int>(choice.action)}, {"content", choice.content}};
    object["exact"] = {{"request", to_json(exact->request)},
                       {"packages", std::move(packages)},
                       {"files", std::move(files)},
                       {"decisions", std::move(decisions)}};
  }
  object["sha256"] = sha256(canonical(object)).hex();
  constexpr int kIndent = 1;
  os::open_file_system("/")->replace_file(os::host_path(file), object.dump(kIndent) + "\n", 0600);
}

SavedPlan load_plan(const std::string& file) {
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(file);
  if (!host->stat_followed(path))
    throw Error(ErrorCode::NotFound, "the saved plan does not exist", file, "--save FILE with a change makes one");
  // whoever may write it decides what is done; asked of the open file, as its name may lead elsewhere a moment later
  const auto opened = host->open(path);
  const auto info = opened->info();
  const bool is_ours = info && (info->uid == 0 || info->uid == os::user_id());
  constexpr std::uint32_t kOthersWrite = 022;
  if (!is_ours || (info->mode & kOthersWrite) != 0)
    throw Error(ErrorCode::Untrusted, "could have been written by someone else", file,
                "look at it, then make it yours: chown root FILE, chmod 600 FILE");
  if (opened->size() > kMostPlanBytes)
    throw Error(ErrorCode::Invalid, fmt::format("is larger than {} bytes", kMostPlanBytes), file, "save the plan anew");
  Json whole = parse_json(opened->read_exactly(0, opened->size(), file), file);
  const JsonObject object(whole, file);
  if (!object.has("hambrel_plan") || object.number("hambrel_plan") != kPlanFormat)
    throw Error(ErrorCode::Invalid, "is not a plan that this program saved", file,
                "--save FILE with a change makes one");
  const std::string digest = object.text("sha256");
  Json content = whole;
  content.erase("sha256");
  if (sha256(canonical(content)).hex() != digest)
    throw Error(ErrorCode::Untrusted, "has changed since it was saved", file,
                "save it again; a plan is not edited by hand");
  SavedPlan saved;
  saved.file = file;
  saved.command = object.texts_or_none("command");
  saved.made = object.text("made");
  saved.plan = plan::plan_of(canonical(object.member("plan")));
  const JsonObject root(object.member("root"), file);
  saved.last = state::TxnId{root.signed_number("transaction")};
  saved.chain = Digest::from_hex(root.text("sha256")).value_or(Digest{});
  if (!object.has("exact")) return saved;
  const JsonObject exact(object.member("exact"), file);
  saved.is_exact = true;
  saved.request = request_in(JsonObject(exact.member("request"), file));
  saved.files = exact.texts_or_none("files");
  for (const std::string& one : exact.texts_or_none("packages"))
    saved.digests.push_back(Digest::from_hex(one).value_or(Digest{}));
  if (saved.digests.size() != saved.plan.steps.size()) exact.wrong("packages", "one for each step");
  for (const auto& [name, value] : exact.member("decisions").items()) {
    const JsonObject one(value, file);
    const std::uint64_t action = one.number("action");
    if (action > static_cast<std::uint64_t>(plan::ConfigAction::Ask)) one.wrong("action", "one that is known");
    saved.decisions[name] = {static_cast<plan::ConfigAction>(action), one.text("content")};
  }
  return saved;
}

std::string moved_since(Root& root, const SavedPlan& saved) {
  const std::string another = "this is not the system that it was made for: its ledger is another one";
  const auto [last, chain] = head_of(root);
  if (last == saved.last) return chain == saved.chain ? "" : another;
  if (last < saved.last) return another;
  const auto entries = ledger_entries(root, number(last) - number(saved.last) + 1);
  const bool is_known =
      number(saved.last) == 0 || (entries.back().id == saved.last && entries.back().digest == saved.chain);
  if (!is_known) return another;
  std::vector<std::string> since;  // what failed has changed nothing
  for (auto one = entries.rbegin(); one != entries.rend(); ++one)
    if (saved.last < one->id && one->result == "done")
      since.push_back(fmt::format("transaction {} ({})", number(one->id), one->kind));
  return since.empty() ? "" : "the system has changed since: " + first_of(since);
}

namespace {

using Lines = std::vector<std::string>;

/// Everything that a plan does, a line each, but how much there is to fetch and what the attic gives up.
Lines facts_of(const plan::Plan& plan) {
  Lines all;
  for (const plan::Step& one : plan.steps)
    all.push_back(fmt::format("{} {} {} {} -> {}{}{}", plan::text_of(one.action), one.name, one.arch, one.before,
                              one.after, one.held ? ", held" : "", one.reason == Reason::Wanted ? ", wanted" : ""));
  for (const plan::ConfigStep& one : plan.configs) all.push_back(fmt::format("/{}: {}", one.path, one.text()));
  for (const plan::FollowStep& one : plan.follows) all.push_back(fmt::format("{} follows {}", one.name, one.text()));
  for (const plan::LinkStep& one : plan.links) all.push_back(fmt::format("/{} leads to {}", one.path, one.after));
  for (const plan::AccountStep& one : plan.accounts)
    all.push_back(fmt::format("account {} {}", one.name, one.goes ? "goes" : "comes"));
  for (const plan::Run& one : plan.runs)
    all.push_back(fmt::format("{} of {} runs{}", one.program, one.package, one.left_out ? " later" : ""));
  for (const plan::ServiceStep& one : plan.services) all.push_back(one.name + ": " + one.text());
  for (const plan::Notice& one : plan.notices)
    if (one.kind != plan::Notice::Kind::GivenUp && one.kind != plan::Notice::Kind::Lost) all.push_back(one.text());
  for (const plan::AskStep& one : plan.questions)
    all.push_back(fmt::format("{} of {} is \"{}\"", one.key, one.package, one.answer));
  return all;
}

}  // namespace

std::string difference(const SavedPlan& saved, const plan::Plan& plan) {
  const Lines before = facts_of(saved.plan), now = facts_of(plan);
  const auto only_in = [](const Lines& some, const Lines& other) -> std::string {
    for (const std::string& one : some)
      if (std::find(other.begin(), other.end(), one) == other.end()) return one;
    return {};
  };
  if (const std::string more = only_in(now, before); !more.empty()) return "it would now also do this: " + more;
  if (const std::string less = only_in(before, now); !less.empty()) return "this can no longer be done: " + less;
  return before == now ? "" : "its steps would come in another order";
}

void require_same(const SavedPlan& saved, const std::string& moved) {
  if (!moved.empty()) throw Error(ErrorCode::Refused, moved, saved.file, plan_anew(saved));
}

namespace {

/// The package that a step brings, where it is now.
PackageId coming(Root& root, const SavedPlan& saved, std::size_t i) {
  const plan::Step& step = saved.plan.steps[i];
  const Universe& universe = root.universe();
  for (const PackageId id : universe.versions_of(step.name)) {
    if (universe.version(id) != step.after || universe.architecture(id) != step.arch) continue;
    const auto& offers = universe[id].offers;
    const bool is_it =
        std::any_of(offers.begin(), offers.end(), [&](const Offer& offer) { return offer.digest == saved.digests[i]; });
    if (is_it || (root.kept(id) != nullptr && saved.digests[i] == root.kept(id)->digest)) return id;
  }
  throw Error(ErrorCode::Refused,
              fmt::format("{} {} is no longer available, or is a different file now", step.name, step.after),
              saved.file, plan_anew(saved));
}

PackageId leaving(Root& root, const SavedPlan& saved, const plan::Step& step) {
  const Universe& universe = root.universe();
  for (const PackageId id : universe.versions_of(step.name))
    if (universe.is_installed(id) && universe.version(id) == step.before && universe.architecture(id) == step.arch)
      return id;
  throw Error(ErrorCode::Refused, fmt::format("{} {} is no longer installed", step.name, step.before), saved.file,
              plan_anew(saved));
}

/// The packages of the plan in this universe, checked as a whole.
plan::Plan placed(Root& root, const SavedPlan& saved) {
  plan::Plan plan;
  plan.kind = saved.plan.kind;
  plan.steps = saved.plan.steps;
  plan.follows = saved.plan.follows;
  std::set<PackageId> set;
  const auto& installed = root.universe().installed();
  const std::vector<PackageId> before(installed.begin(), installed.end());
  set.insert(before.begin(), before.end());
  for (std::size_t i = 0; i < plan.steps.size(); ++i) {
    plan::Step& step = plan.steps[i];
    step.download = 0;
    if (!step.before.empty()) step.before_id = leaving(root, saved, step);
    if (step.only_state())
      step.after_id = step.before_id;
    else if (!step.after.empty())
      step.after_id = coming(root, saved, i);
    if (step.before_id && !step.only_state()) set.erase(*step.before_id);
    if (step.after_id) set.insert(*step.after_id);
    const bool is_fetched = step.brings_files() && root.kept(*step.after_id) == nullptr &&
                            root.file_reader(*step.after_id) == nullptr &&
                            !root.universe()[*step.after_id].offers.empty();
    if (!is_fetched) continue;
    const Offer& offer = root.universe()[*step.after_id].offers.front();
    if (!repo::in_cache(root.files(), root.universe().package(*step.after_id), offer)) step.download = offer.size;
  }
  const auto problems = plan::problems_of(root.universe(), {set.begin(), set.end()}, before);
  if (!problems.empty()) throw Error(ErrorCode::Refused, problems.front(), saved.file, plan_anew(saved));
  return plan;
}

}  // namespace

std::unique_ptr<Proposal> propose(Root& root, const SavedPlan& saved, const ActingTerms& acting, End end) {
  HAMBREL_ASSERT(saved.is_exact, "else its command is run again");
  require_same(saved, moved_since(root, saved));
  std::vector<Spec> specs;
  for (const std::string& file : saved.files) specs.push_back(parse_spec(file));
  root.add_files(specs);
  const auto is_kept = [](const plan::Step& step) { return step.origin == kInAttic || step.origin == kInCache; };
  if (std::any_of(saved.plan.steps.begin(), saved.plan.steps.end(), is_kept)) root.add_kept();
  if (saved.request.kind == "unshelve") root.add_shelved();
  ChangeRequest request = saved.request;
  request.end = end;
  request.configuration.may_ask = true;  // what the plan does not say stays open, and is told
  const bool without_hooks = request.acting.without_hooks;
  request.acting = acting;
  request.acting.without_hooks = without_hooks || acting.without_hooks;
  for (const plan::AskStep& one : saved.plan.questions)
    if (!one.is_secret()) request.acting.answers.try_emplace({one.package, one.key}, GivenAnswer{one.answer});
  auto proposal = change_proposal(root, std::move(request), placed(root, saved));
  if (end == End::FetchOnly) return proposal;
  for (const ConfigQuestion& question : proposal->questions())
    if (!saved.decisions.contains(question.path))
      require_same(saved, fmt::format("/{} has changed since, and needs a decision", question.path));
  if (!proposal->questions().empty()) proposal = proposal->decided(saved.decisions);
  if (proposal->questions_of_packages().empty()) require_same(saved, difference(saved, proposal->plan()));
  return proposal;
}

}  // namespace hambrel::operations
