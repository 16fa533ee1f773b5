#include "plan/remedies.h"

#include <fmt/format.h>

#include <algorithm>
#include <future>
#include <memory>
#include <tuple>

#include "base/parallel.h"
#include "base/text.h"
#include "solve/explain.h"
#include "solve/selecting.h"

namespace hambrel::plan {

namespace {

using solve::Cause;
using solve::Refusal;
using solve::Request;
using solve::Target;

constexpr std::size_t kMostGiven = 40;    // wanted packages, or holds, that one remedy may give up
constexpr std::size_t kMostTried = 3;     // sets of wanted packages, or of holds, the smallest first
constexpr std::size_t kMostChannels = 8;  // that are tried: each takes an encoding of its own
constexpr std::size_t kMostDropped = 8;   // requests: hundreds may be among the causes, by one pattern

/// What remedies are compared by; smaller is cheaper.
auto cost(const Remedy& remedy) {
  const auto wanted_gone = std::count_if(remedy.plan.steps.begin(), remedy.plan.steps.end(), [](const Step& step) {
    return step.action == Action::Remove && step.reason == Reason::Wanted;
  });
  return std::tuple(wanted_gone, remedy.kind == Remedy::Kind::DropRequest ? 1 : 0, remedy.enable.empty() ? 0 : 1,
                    remedy.kind == Remedy::Kind::LowerVersion ? 1 : 0, remedy.plan.count(Action::Remove),
                    remedy.plan.count(Action::Downgrade), remedy.plan.count(Action::Install),
                    remedy.plan.count(Action::Upgrade), remedy.subjects);
}

class Search {
 public:
  Search(const Universe& universe, const Request& request, const Refusal& refusal)
      : universe_(universe), request_(request), refusal_(refusal), explainer_(refusal.explainer) {}

  WaysOut run(std::size_t most) {
    if (request_.upgrade_all || !request_.upgrade.empty())
      return {};  // an upgrade that asks for nothing else is never refused
    for (const Target& target : request_.install)
      if (!target.candidates.empty()) asked_.emplace(universe_.name(target.candidates.front()));
    other_channels();
    const auto is_wanted = [](const Cause& cause) { return cause.kind == Cause::Kind::Wanted; };
    if (std::any_of(refusal_.causes.begin(), refusal_.causes.end(), is_wanted)) let_go("");
    for (const Cause& cause : refusal_.causes) {
      if (cause.kind == Cause::Kind::Wanted) let_go(cause.name);
      if (cause.kind == Cause::Kind::Held) release(cause.name);
      if (cause.kind == Cause::Kind::Asked) take_lower(cause.name);
      if (cause.kind == Cause::Kind::Asked || cause.kind == Cause::Kind::AskedToRemove) drop(cause);
    }
    is_let_go_known_.set_value();
    for (auto* trials : {&trying_, &trying_channels_})
      for (auto& one : *trials) {
        Trial trial = one.get();
        enter(std::move(trial.remedy));
        if (!trial.best_known.empty()) best_known_ = std::move(trial.best_known);
      }
    other_repositories();
    std::stable_sort(found_.begin(), found_.end(), [](const Remedy& a, const Remedy& b) { return cost(a) < cost(b); });
    if (found_.size() > most) found_.resize(most);
    if (!found_.empty()) return {std::move(found_), ""};
    if (best_known_.empty() && channels_ > kMostChannels)
      best_known_ = fmt::format(
          "removing packages, releasing holds and other versions do not help, nor do {} of {} other "
          "channels; the rest were not tried",
          kMostChannels, channels_);
    if (best_known_.empty())
      best_known_ = "removing packages, releasing holds, other versions and other channels do not help";
    return {{}, best_known_};
  }

 private:
  using Tried = std::optional<Remedy>;
  struct Trial {
    Tried remedy;
    std::string best_known{};
  };

  /// Solves a request and plans it. Nothing where that does not work or comes to nothing.
  static Tried tried(const Universe& universe, Remedy::Kind kind, const std::vector<std::string>& subjects,
                     const Request& request) {
    auto selection = solve::find_selection(universe, request).selection;
    if (!selection) return std::nullopt;
    return planned(universe, kind, subjects, request, std::move(*selection));
  }

  /// The same of what is encoded already.
  static Tried tried_with(solve::Encoding encoding, Remedy::Kind kind, const std::vector<std::string>& subjects) {
    auto selection = solve::find_selection(encoding);
    if (!selection) return std::nullopt;
    return planned(encoding.universe(), kind, subjects, encoding.request(), std::move(*selection));
  }

  static Tried planned(const Universe& universe, Remedy::Kind kind, const std::vector<std::string>& subjects,
                       const Request& request, solve::Selection selection) {
    Remedy remedy{kind, subjects, "", request, std::move(selection), {}};
    auto [plan, problems] = make_checked_plan(universe, request, remedy.selection, {.kind = "change"});
    if (!problems.empty()) return std::nullopt;
    remedy.plan = std::move(plan);
    return remedy;
  }

  /// Keeps what works, unless something found before leads to the same set. Does it work?
  bool enter(Tried remedy) {
    if (!remedy) return false;
    const auto same = [&](const Remedy& one) { return one.selection.chosen == remedy->selection.chosen; };
    if (!remedy->plan.empty() && std::none_of(found_.begin(), found_.end(), same)) found_.push_back(std::move(*remedy));
    return true;
  }

  bool attempt(Remedy::Kind kind, const std::vector<std::string>& subjects, const Request& request) {
    return enter(tried(universe_, kind, subjects, request));
  }

  /// The same of a request in which more names go or are released, while others are looked for. What is encoded already
  /// is not encoded again.
  void attempt_meanwhile(Remedy::Kind kind, std::vector<std::string> subjects, const Request& wider) {
    const auto encoding = std::make_shared<solve::Encoding>(explainer().with(wider));
    trying_.push_back(aside([kind, subjects = std::move(subjects), encoding] {
      return Trial{tried_with(std::move(*encoding), kind, subjects)};
    }));
  }

  /// A hold that does not count this time, and whatever further holds then stand in the way.
  void release(const std::string& first) {
    const auto has_first = [&](const solve::Names& tried) { return tried.contains(first); };
    if (released_.size() == kMostTried || std::any_of(released_.begin(), released_.end(), has_first)) return;
    const auto names = explainer().fewest(Cause::Kind::Held, first);
    if (!names) return;
    if (is_too_much(*names)) {
      best_known_ = too_much(*names, "release the holds of");
      return;
    }
    Request request = request_;
    request.release.insert(names->begin(), names->end());
    released_.emplace(names->begin(), names->end());
    attempt_meanwhile(Remedy::Kind::ReleaseHold, *names, request);
  }

  static bool is_too_much(const std::vector<std::string>& names) { return names.size() > kMostGiven; }

  /// What is more than a remedy may ask for is told in a sentence.
  static std::string too_much(const std::vector<std::string>& names, const char* verb) {
    return fmt::format("the smallest change that would help would {} {} packages: {}", verb, names.size(),
                       some_of(names));
  }

  /// Is a part of these wanted packages enough to give up, as another remedy does?
  bool helps_already(const solve::Names& given_up) const {
    return std::any_of(let_go_.begin(), let_go_.end(), [&](const solve::Names& tried) {
      return std::includes(given_up.begin(), given_up.end(), tried.begin(), tried.end());
    });
  }

  solve::Explainer& explainer() {
    if (!explainer_) explainer_ = std::make_shared<solve::Explainer>(universe_, request_);
    return *explainer_;
  }

  /// Repositories that are not enabled, one at a time, as if they were.
  void other_repositories() {
    for (const View::Repository& one : universe_.view().repositories) {
      if (one.enabled) continue;
      View view = universe_.view();
      for (View::Repository& repository : view.repositories)
        if (repository.name == one.name) repository.enabled = true;
      const Universe wider(universe_, std::move(view));
      Request request = request_;
      for (Target& target : request.install) add_versions(wider, target);
      Tried remedy = tried(wider, Remedy::Kind::EnableRepository, {one.name}, request);
      if (remedy) remedy->enable = one.name;
      enter(std::move(remedy));
    }
  }

  /// What else of the same names a wider view shows: asked for by name only, a newer version would do as well.
  static void add_versions(const Universe& universe, Target& target) {
    std::vector<PackageId> all = target.candidates;
    for (const PackageId id : target.candidates)
      for (const PackageId other : universe.slot(id))
        if (target.text == universe.name(id) && universe.offered(other) &&
            std::find(all.begin(), all.end(), other) == all.end())
          all.push_back(other);
    universe.sort(all);
    target.candidates = std::move(all);
  }

  /// The fewest wanted packages, this one among them, without which the rest can be met. Not where fewer of them would
  /// do, or where this one goes with others anyway.
  void let_go(const std::string& first) {
    const auto has_first = [&](const solve::Names& tried) { return tried.contains(first); };
    if (is_asked_for(first) || std::any_of(let_go_.begin(), let_go_.end(), has_first)) return;
    const auto fewest = explainer().fewest(Cause::Kind::Wanted, first);
    if (!fewest || fewest->empty()) return;
    if (is_too_much(*fewest)) {
      best_known_ = too_much(*fewest, "remove");
      return;
    }
    Request request = request_;
    request.remove.insert(fewest->begin(), fewest->end());
    if (let_go_.size() == kMostTried || helps_already(request.remove)) return;
    let_go_.insert(request.remove);
    request.changes_installed = true;
    attempt_meanwhile(Remedy::Kind::RemoveWanted, *fewest, request);
  }

  bool is_asked_for(const std::string& name) const { return asked_.contains(name); }

  /// Another version of what was asked for, where one was named that can't be had.
  void take_lower(const std::string& text) {
    for (std::size_t i = 0; i < request_.install.size(); ++i) {
      const Target& target = request_.install[i];
      if (target.text != text || target.candidates.empty()) continue;
      const std::string name(universe_.name(target.candidates.front()));
      std::vector<PackageId> others;
      for (const PackageId id : universe_.slot(target.candidates.front()))
        if (std::find(target.candidates.begin(), target.candidates.end(), id) == target.candidates.end() &&
            (universe_.is_installed(id) || universe_.offered(id)))
          others.push_back(id);
      const auto installed = universe_.installed_of(name);
      for (const PackageId id : others) {
        // that it stays, or goes back, is no way to have it
        if (installed && order_versions(universe_.version(id), universe_.version(*installed)) <= 0) continue;
        Request request = request_;
        const std::string version = fmt::format("{}={}", name, universe_.version(id));
        request.install[i] = {version, {id}};
        if (attempt(Remedy::Kind::LowerVersion, {version}, request)) break;
      }
    }
  }

  void drop(const Cause& cause) {
    if (request_.install.size() + request_.remove.size() < 2 || dropped_ == kMostDropped) return;
    ++dropped_;
    Request request = request_;
    if (cause.kind == Cause::Kind::AskedToRemove)
      request.remove.erase(cause.name);
    else
      std::erase_if(request.install, [&](const Target& target) { return target.text == cause.name; });
    attempt(Remedy::Kind::DropRequest, {cause.name}, request);
  }

  void other_channels() {
    // of what the refusal is about: what else could come from elsewhere is no way out of it
    std::set<std::string> channels;
    const auto add = [&](Ids ids) {
      for (const PackageId id : ids)
        for (std::size_t i = 0; i < universe_.offer_count(id); ++i)
          if (const auto offer = universe_.offer(id, i);
              offer.enabled && !offer.followed && !request_.channels.contains(offer.channel))
            channels.emplace(offer.channel);
    };
    for (const Cause& cause : refusal_.causes) {
      for (const auto* ids : {&cause.packages, &cause.others})
        for (const PackageId id : *ids) add(universe_.slot(id));
      if (cause.kind == Cause::Kind::Requires) add(universe_.matching(parse_relation(cause.relation, "")));
    }
    channels_ = channels.size();
    const auto is_let_go_known = is_let_go_known_.get_future().share();
    for (const std::string& channel : channels)
      if (trying_channels_.size() < kMostChannels)
        trying_channels_.push_back(aside([=, this] { return with_channel(channel, is_let_go_known); }));
  }

  /// What could come from another channel, and where wanted packages stand in the way of that, too, these along with
  /// it.
  Trial with_channel(const std::string& channel, const std::shared_future<void>& is_let_go_known) const {
    Request from_there = request_;
    from_there.channels.insert(channel);
    solve::Explainer explainer(universe_, from_there);
    const auto names = explainer.fewest(Cause::Kind::Wanted, "");
    if (!names) return {};
    if (is_too_much(*names)) return {std::nullopt, too_much(*names, "remove")};
    Request request = from_there;
    request.remove.insert(names->begin(), names->end());
    is_let_go_known.wait();
    if (helps_already(request.remove)) return {};  // without the channel
    solve::Encoding encoding = explainer.with(request);
    const auto selection = solve::find_selection(encoding);
    if (!selection) return {};
    // named package by package, as the command will name them, which takes nothing else from there
    request.channels = request_.channels;
    bool is_known = true;  // what the command may take is part of what was encoded
    for (const PackageId id : selection->chosen) {
      const std::string name(universe_.name(id));
      if (universe_.is_installed(id) || universe_.offered(id) || is_asked_for(name)) continue;
      std::vector<PackageId> there;
      for (const PackageId one : universe_.slot(id))
        if (is_in(channel, one)) there.push_back(one);
      is_known =
          is_known && std::all_of(there.begin(), there.end(), [&](PackageId one) { return explainer.reaches(one); });
      if (!there.empty()) request.install.push_back({fmt::format("{}@{}", name, channel), std::move(there)});
    }
    if (!is_known) return {tried(universe_, Remedy::Kind::OtherChannel, {channel}, request), ""};
    return {tried_with(explainer.with(request), Remedy::Kind::OtherChannel, {channel}), ""};
  }

  bool is_in(const std::string& channel, PackageId id) const {
    for (std::size_t i = 0; i < universe_.offer_count(id); ++i)
      if (universe_.offer(id, i).channel == channel) return true;
    return false;
  }

  const Universe& universe_;
  const Request& request_;
  const Refusal& refusal_;
  solve::Names asked_;  // names of what is to be installed
  std::vector<Remedy> found_;
  std::string best_known_;
  std::set<solve::Names> let_go_, released_;  // what was tried
  std::size_t channels_ = 0;                  // that there are
  std::size_t dropped_ = 0;                   // requests that were left out, one at a time
  std::shared_ptr<solve::Explainer> explainer_;
  std::vector<Aside<Trial>> trying_, trying_channels_;  // what they do reads the members before them
  std::promise<void> is_let_go_known_;                  // the last member: whoever waits for it goes on when it is gone
};

}  // namespace

std::string Remedy::command() const {
  std::vector<std::string> install, remove;
  for (const std::string& name : request.remove) remove.push_back(shell_quoted(name));
  for (const Target& target : request.install) install.push_back(shell_quoted(target.text));
  const std::string tail = (request.arch.empty() ? "" : " --arch " + request.arch) +
                           std::string(request.drop_unneeded ? " --unneeded" : "") +
                           (request.recommended || install.empty() ? "" : " --no-recommended");
  const std::string first = enable.empty() ? "" : "hambrel repo enable " + enable + " && ";
  if (!request.release.empty()) {
    std::string text = first + "hambrel change";
    for (const std::string& word : request.release) text += " --release " + word;
    for (const std::string& word : install) text += " --install " + word;
    for (const std::string& word : remove) text += " --remove " + word;
    return text + tail;
  }
  if (remove.empty()) return first + "hambrel install " + join(install, " ") + tail;
  if (install.empty()) return first + "hambrel remove " + join(remove, " ") + tail;
  std::string text = first + "hambrel change";
  for (const std::string& word : install) text += " --install " + word;
  for (const std::string& word : remove) text += " --remove " + word;
  return text + tail;
}

std::string Remedy::price() const {
  std::vector<std::string> parts, wanted, others;
  for (const Step& step : plan.steps)
    if (step.action == Action::Remove) (step.reason == Reason::Wanted ? wanted : others).push_back(step.name);
  if (kind == Kind::LowerVersion) parts.push_back(fmt::format("takes {}", join(subjects, ", ")));
  if (!enable.empty()) parts.push_back(fmt::format("enables repository {}", enable));
  if (!request.release.empty())
    parts.push_back(fmt::format("releases the hold of {}",
                                join(std::vector<std::string>(request.release.begin(), request.release.end()), ", ")));
  if (kind == Kind::DropRequest) parts.push_back(fmt::format("drops {}", join(subjects, ", ")));
  if (!wanted.empty()) parts.push_back(fmt::format("removes {} (wanted)", some_of(wanted)));
  if (!others.empty()) parts.push_back(fmt::format("removes {}", some_of(others)));
  const auto count = [&](Action action, const char* verb) {
    if (const std::size_t number = plan.count(action); number > 0) parts.push_back(fmt::format("{} {}", verb, number));
  };
  count(Action::Downgrade, "downgrades");
  count(Action::Upgrade, "upgrades");
  count(Action::Install, "installs");
  return join(parts, "; ");
}

WaysOut remedies_for(const Universe& universe, const Request& request, const Refusal& refusal, std::size_t most) {
  WaysOut found = Search(universe, request, refusal).run(most);
  // where nothing wanted is a cause in the end, what was looked for meanwhile was not asked for
  if (refusal.explainer) refusal.explainer->settle();
  return found;
}

}  // namespace hambrel::plan
