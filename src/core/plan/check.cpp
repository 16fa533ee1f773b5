// The independent check: written from the meaning of the relations, not from the solver's encoding. It reads names,
// operators and versions as they are written and compares them itself.
#include <fmt/format.h>

#include <algorithm>

#include "plan/plan.h"

namespace hambrel::plan {

namespace {

struct Problem {
  std::string text;
  PackageId whose{};
  auto operator<=>(const Problem&) const = default;
};

class Checker {
 public:
  Checker(const Universe& universe, const std::vector<PackageId>& set) : universe_(universe), set_(set) {
    heads_.assign(universe.name_count(), kEnd);
    for (const PackageId id : set) {
      answer(universe.name_id(id), id, universe.version(id));
      for (const RelationId relation : universe.relations(id, RelationList::Provides)) {
        const auto provided = universe.constraint(relation, 0);
        answer(provided.name, id, provided.op == Operator::Equal ? provided.version : std::string_view());
      }
    }
  }

  std::vector<Problem> run() {
    for (const PackageId id : set_) {
      count_versions(id);
      for (const RelationId relation : universe_.relations(id, RelationList::Requires))
        if (!is_met(relation, id)) tell(id, "requires", universe_.text(relation));
      for (const RelationId relation : universe_.relations(id, RelationList::Conflicts))
        each_answer(relation, 0, [&](const Answer& one) {
          if (universe_.name_id(one.package) != universe_.name_id(id)) tell(id, "conflicts with", title(one.package));
        });
      for (const RelationId relation : universe_.relations(id, RelationList::Replaces))
        each_answer(relation, 0, [&](const Answer& one) {
          const bool by_own_name = universe_.name_id(one.package) == universe_.constraint(relation, 0).name;
          if (by_own_name && universe_.name_id(one.package) != universe_.name_id(id))
            tell(id, "replaces", title(one.package));
        });
    }
    std::sort(problems_.begin(), problems_.end());
    problems_.erase(std::unique(problems_.begin(), problems_.end()), problems_.end());
    return std::move(problems_);
  }

 private:
  static constexpr std::uint32_t kEnd = UINT32_MAX;
  struct Answer {
    PackageId package;
    std::string_view version;  // empty: provided without one
    std::uint32_t next;
  };

  void answer(NameId name, PackageId id, std::string_view version) {
    std::uint32_t& head = heads_[static_cast<std::size_t>(name)];
    answers_.push_back({id, version, head});
    head = static_cast<std::uint32_t>(answers_.size() - 1);
  }

  static bool fits(Operator op, std::string_view asked, std::string_view has) {
    if (op == Operator::Any) return true;
    if (has.empty()) return false;
    const int order = compare_versions(has, asked, asked.find('-') != std::string_view::npos);
    return (op == Operator::Equal && order == 0) || (op == Operator::NotEqual && order != 0) ||
           (op == Operator::Less && order < 0) || (op == Operator::LessEqual && order <= 0) ||
           (op == Operator::Greater && order > 0) || (op == Operator::GreaterEqual && order >= 0);
  }

  template <typename Function>
  void each_answer(RelationId relation, std::size_t i, Function f) const {
    const auto wanted = universe_.constraint(relation, i);
    for (std::uint32_t at = heads_[static_cast<std::size_t>(wanted.name)]; at != kEnd; at = answers_[at].next)
      if (fits(wanted.op, wanted.version, answers_[at].version)) f(answers_[at]);
  }

  bool is_met(RelationId relation, PackageId asking) const {
    bool met = false;
    for (std::size_t i = 0; i < universe_.constraint_count(relation) && !met; ++i)
      each_answer(relation, i, [&](const Answer& one) { met = met || universe_.may_serve(one.package, asking); });
    return met;
  }

  void count_versions(PackageId id) {
    std::uint32_t count = 0;
    for (std::uint32_t at = heads_[static_cast<std::size_t>(universe_.name_id(id))]; at != kEnd; at = answers_[at].next)
      if (universe_.same_slot(answers_[at].package, id) &&
          answers_[at].version == universe_.version(answers_[at].package))
        ++count;
    if (count > universe_.parallel(id))
      problems_.push_back({fmt::format("{} would be installed twice", universe_.name(id)), id});
  }

  std::string title(PackageId id) const { return fmt::format("{} {}", universe_.name(id), universe_.version(id)); }
  void tell(PackageId id, const char* verb, const std::string& what) {
    problems_.push_back({fmt::format("{} {} {}", title(id), verb, what), id});
  }

  const Universe& universe_;
  const std::vector<PackageId>& set_;
  std::vector<std::uint32_t> heads_;  // by name: the first of its answers
  std::vector<Answer> answers_;
  std::vector<Problem> problems_;
};

/// Of the set, but not of what was before.
std::vector<Problem> new_problems(const Universe& universe, const std::vector<PackageId>& set,
                                  const std::vector<PackageId>& before) {
  std::vector<Problem> problems = Checker(universe, set).run();
  if (problems.empty() || before.empty()) return problems;
  const std::vector<Problem> old = Checker(universe, before).run();
  std::erase_if(problems, [&](const Problem& one) {
    return std::any_of(old.begin(), old.end(), [&](const Problem& other) { return other.text == one.text; });
  });
  return problems;
}

/// The same for a set that was checked before (`there`), of which `coming` is new: only what concerns that.
std::vector<std::string> problems_of_additions(const Universe& universe, const std::vector<std::uint8_t>& there,
                                               const std::vector<PackageId>& coming) {
  std::vector<std::string> problems;
  const auto title = [&](PackageId id) { return fmt::format("{} {}", universe.name(id), universe.version(id)); };
  const auto tell = [&](PackageId id, const char* verb, const std::string& what) {
    problems.push_back(fmt::format("{} {} {}", title(id), verb, what));
  };
  /// Those of the set that answer to one part of a relation, by name and version as they are written.
  const auto answering = [&](RelationId relation, std::size_t i) {
    std::vector<PackageId> ids = universe.matching(relation, i);
    std::erase_if(ids, [&](PackageId id) { return there[index_of(id)] == 0; });
    return ids;
  };
  const auto stand_against = [&](PackageId id, RelationId relation, bool replaces) {
    for (const PackageId other : answering(relation, 0)) {
      const bool by_own_name = universe.name_id(other) == universe.constraint(relation, 0).name;
      if (universe.name_id(other) != universe.name_id(id) && (by_own_name || !replaces))
        tell(id, replaces ? "replaces" : "conflicts with", title(other));
    }
  };
  for (const PackageId id : coming) {
    std::uint32_t versions = 0;
    for (const PackageId other : universe.slot(id)) versions += there[index_of(other)] != 0 ? 1 : 0;
    if (versions > universe.parallel(id))
      problems.push_back(fmt::format("{} would be installed twice", universe.name(id)));
    for (const RelationId relation : universe.relations(id, RelationList::Requires)) {
      bool met = false;
      for (std::size_t i = 0; i < universe.constraint_count(relation); ++i)
        for (const PackageId other : answering(relation, i)) met = met || universe.may_serve(other, id);
      if (!met) tell(id, "requires", universe.text(relation));
    }
    for (const RelationId relation : universe.relations(id, RelationList::Conflicts))
      stand_against(id, relation, false);
    for (const RelationId relation : universe.relations(id, RelationList::Replaces)) stand_against(id, relation, true);
    for (const NameId name : universe.answers_to(id))
      universe.each_against(name, [&](PackageId one, RelationId relation, bool replaces) {
        if (there[index_of(one)] != 0) stand_against(one, relation, replaces);
      });
  }
  return problems;
}

}  // namespace

std::vector<std::string> problems_of(const Universe& universe, const std::vector<PackageId>& set,
                                     const std::vector<PackageId>& before) {
  std::vector<std::string> texts;
  for (Problem& one : new_problems(universe, set, before))
    if (texts.empty() || texts.back() != one.text) texts.push_back(std::move(one.text));
  return texts;
}

std::vector<PackageId> troubled(const Universe& universe, const std::vector<PackageId>& set) {
  std::vector<PackageId> ids;
  for (const Problem& one : new_problems(universe, set, {})) ids.push_back(one.whose);
  return ids;
}

std::vector<PackageId> all_that_need(const Universe& universe, std::vector<PackageId> stay) {
  std::vector<PackageId> all;
  for (;;) {
    std::vector<PackageId> troubled;
    for (const Problem& one : new_problems(universe, stay, universe.installed())) troubled.push_back(one.whose);
    if (troubled.empty()) return all;
    std::sort(troubled.begin(), troubled.end());
    troubled.erase(std::unique(troubled.begin(), troubled.end()), troubled.end());
    all.insert(all.end(), troubled.begin(), troubled.end());
    std::erase_if(stay, [&](PackageId id) { return std::binary_search(troubled.begin(), troubled.end(), id); });
  }
}

std::vector<std::string> problems_of(const Universe& universe, const solve::Request& request,
                                     const solve::Selection& selection) {
  std::vector<std::uint8_t> there(universe.size(), 0);
  for (const PackageId id : selection.chosen) there[index_of(id)] = 1;
  const auto& installed = universe.installed();
  const bool only_more =
      std::all_of(installed.begin(), installed.end(), [&](PackageId id) { return there[index_of(id)] != 0; });
  std::vector<PackageId> coming;
  for (const PackageId id : selection.chosen)
    if (!universe.is_installed(id)) coming.push_back(id);
  std::vector<std::string> problems = only_more && universe.installed_is_sound()
                                          ? problems_of_additions(universe, there, coming)
                                          : problems_of(universe, selection.chosen, installed);
  const auto any = [&](Ids ids) {
    return std::any_of(ids.begin(), ids.end(), [&](PackageId id) { return there[index_of(id)] != 0; });
  };
  for (const solve::Target& target : request.install)
    if (!any(target.candidates)) problems.push_back(fmt::format("{} is not there", target.text));
  for (const PackageId id : universe.installed()) {
    if (request.remove.empty() && there[index_of(id)] != 0) continue;
    const bool named = request.means(request.remove, universe, id);
    if (named && there[index_of(id)] != 0) problems.push_back(fmt::format("{} stays", universe.name(id)));
    if (named || there[index_of(id)] != 0) continue;
    if (universe.held(id) && !request.means(request.release, universe, id))
      problems.push_back(fmt::format("{} is held and would change", universe.name(id)));
    if (request.guards(universe, id) && !any(universe.slot(id)))
      problems.push_back(fmt::format("{} is essential and would go", universe.name(id)));
    if (universe.wanted(id) && !request.drop_strays && !any(universe.slot(id)) && !any(universe.replacers_of(id)))
      problems.push_back(fmt::format("{} is wanted and would go", universe.name(id)));
  }
  return problems;
}

bool leads_to(const Universe& universe, const Plan& plan, const std::vector<PackageId>& chosen) {
  std::vector<std::uint8_t> there(universe.size(), 0), now(universe.size(), 0);
  for (const PackageId id : chosen) there[index_of(id)] = 1;
  for (const PackageId id : universe.installed()) now[index_of(id)] = 1;
  for (const Step& step : plan.steps) {
    if (step.before_id) now[index_of(*step.before_id)] = 0;
    if (step.after_id) now[index_of(*step.after_id)] = 1;
  }
  return now == there;
}

}  // namespace hambrel::plan
