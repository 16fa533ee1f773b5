#include "operations/asking.h"

#include <algorithm>
#include <map>

#include "base/text.h"
#include "operations/channels.h"
#include "operations/leftovers.h"
#include "operations/select.h"

namespace hambrel::operations {

namespace {

/// A version that is named exactly, and that nobody offers, may come from the attic or the cache.
bool is_missing(const Universe& universe, const Spec& spec) {
  if (spec.kind != Spec::Kind::Name || spec.constraint.op != Operator::Equal) return false;
  const auto versions = universe.versions_of(spec.constraint.name);
  return std::none_of(versions.begin(), versions.end(), [&](PackageId id) {
    return version_allowed(Operator::Equal, spec.constraint.version.text(), universe.version(id));
  });
}

void ask_to_install(Root& root, const Spec& spec, solve::Request& request) {
  const Universe& universe = root.universe();
  const auto ids = select(root, spec);
  if (spec.kind == Spec::Kind::Channel) request.channels.insert(spec.channel);
  if (spec.kind != Spec::Kind::Glob) {
    request.install.push_back({spec.text, ids});
    return;
  }
  std::map<std::string, std::vector<PackageId>> by_name;
  for (const PackageId id : ids)
    if (universe.is_installed(id) || universe.offered(id)) by_name[std::string(universe.name(id))].push_back(id);
  for (const auto& [name, versions] : by_name) request.install.push_back({name, versions});
}

void add_installed(Root& root, const std::vector<std::string>& words, solve::Names& names) {
  for (const Spec& spec : parse_specs(words)) names.merge(select_installed(root, spec));
}

}  // namespace

void ask_for(Root& root, const Named& named, ChangeRequest& request) {
  const auto install = parse_specs(named.install);
  root.add_files(install);
  if (std::any_of(install.begin(), install.end(), [&](const Spec& one) { return is_missing(root.universe(), one); }))
    root.add_kept();
  for (const Spec& spec : install) ask_to_install(root, spec, request.solve);
  add_installed(root, named.remove, request.solve.remove);
  add_installed(root, named.upgrade, request.solve.upgrade);
  add_installed(root, named.except, request.solve.except);
  add_installed(root, named.release, request.solve.release);
}

bool ChangeLines::empty() const {
  return marks.empty() && follows.empty() && !upgrade_all && named.install.empty() && named.remove.empty() &&
         named.upgrade.empty() && named.except.empty() && named.release.empty();
}

namespace {

/// One line of changes, by its words.
class ChangeLine {
 public:
  ChangeLine(std::string_view text, std::string at) : at_(std::move(at)) {
    for (const std::string_view word : split(text, ' '))
      if (!word.empty()) words_.emplace_back(word);
  }
  void add_to(ChangeLines& all) {
    const std::string verb = words_.front();
    words_.erase(words_.begin());
    if (verb == "upgrade" && words_.empty()) {
      all.upgrade_all = true;
      return;
    }
    if (verb == "hold" || verb == "want" || verb == "unwant") return add_mark(verb, all);
    if (verb == "follow") return add_follow(all);
    const std::map<std::string, std::vector<std::string>*> lists{
        {"install", &all.named.install}, {"remove", &all.named.remove}, {"purge", &all.named.remove},
        {"upgrade", &all.named.upgrade}, {"except", &all.named.except}, {"release", &all.named.release}};
    const auto list = lists.find(verb);
    if (list == lists.end())
      wrong(fmt::format("\"{}\" is not a change", printable(verb)),
            "lines begin with install, remove, purge, upgrade, except, hold, release, follow, want or unwant");
    require_specs(verb);
    if (verb == "release") return add_mark(verb, all);
    if (verb == "purge") all.purge = true;
    list->second->insert(list->second->end(), words_.begin(), words_.end());
  }

 private:
  void require_specs(const std::string& verb) {
    if (words_.empty()) wrong(fmt::format("{} needs a package", verb), fmt::format("for example: {} lampdesk", verb));
    for (const std::string& word : words_) {
      try {
        parse_spec(word);
      } catch (const Error& problem) {
        wrong(problem.problem(), problem.hint());
      }
    }
  }
  void add_follow(ChangeLines& all) {
    if (words_.size() != 2) wrong("follow needs a package and a channel", "for example: follow lampdesk beta");
    if (words_[1] != "default" && !is_package_name(words_[1]))
      wrong(fmt::format("\"{}\" is no channel", printable(words_[1])), "for example: follow lampdesk beta");
    all.follows.emplace_back(words_[0], words_[1] == "default" ? "" : words_[1]);
  }
  void add_mark(const std::string& verb, ChangeLines& all) {
    ChangeLines::Mark mark;
    mark.action = plan::Action::Unwant;
    if (verb == "hold") mark.action = plan::Action::Hold;
    if (verb == "release") mark.action = plan::Action::Release;
    if (verb == "want") mark.action = plan::Action::Want;
    if (const auto because = std::find(words_.begin(), words_.end(), "because"); because != words_.end()) {
      mark.reason = join({because + 1, words_.end()}, " ");
      words_.erase(because, words_.end());
    }
    if (const auto until = std::find(words_.begin(), words_.end(), "until"); until != words_.end()) {
      const auto date = until + 1 == words_.end() ? std::nullopt : parse_date(*(until + 1));
      if (!date || until + 2 != words_.end())
        wrong("until must be followed by a date", "for example: hold saltdb until 2030-01-31");
      mark.until = date;
      words_.erase(until, words_.end());
    }
    if (verb != "hold" && (mark.until || mark.reason)) wrong("only hold has until and because", "fix this line");
    require_specs(verb);
    mark.specs = words_;
    all.marks.push_back(std::move(mark));
  }
  [[noreturn]] void wrong(const std::string& what, const std::string& hint) const {
    throw Error(ErrorCode::Usage, what, at_, hint);
  }

  std::string at_;
  std::vector<std::string> words_;
};

}  // namespace

ChangeLines parse_changes(std::string_view text, const std::string& where) {
  ChangeLines all;
  std::size_t number = 0, plain_removals = 0;
  for (const std::string_view line : split(text, '\n')) {
    ++number;
    std::string plain(trim(line.substr(0, line.find('#'))));
    std::replace(plain.begin(), plain.end(), '\t', ' ');
    if (plain.empty()) continue;
    if (plain.starts_with("remove ")) ++plain_removals;
    ChangeLine(plain, fmt::format("{}:{}", where, number)).add_to(all);
  }
  if (all.purge && plain_removals > 0)
    throw Error(ErrorCode::Usage, "remove and purge cannot be in one transaction", where,
                "use one word for all of them");
  return all;
}

std::string text_of_file(const std::string& file) {
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(file);
  if (!host->stat_followed(path))
    throw Error(ErrorCode::NotFound, "the file does not exist", file,
                "`hambrel help change` shows what to write into it");
  return host->read_all(path, kMostGivenBytes);
}

void ask_for(Root& root, const ChangeLines& lines, ChangeRequest& request) {
  request.purge = request.purge || lines.purge;
  if (request.purge) request.purge_also = lines.named.remove;
  request.solve.upgrade_all = request.solve.upgrade_all || lines.upgrade_all;
  for (const auto& [name, channel] : lines.follows) ask_to_follow(root, {name}, channel, request);  // seen by the rest
  ask_for(root, lines.named, request);
  for (const ChangeLines::Mark& one : lines.marks) {
    MarkRequest mark;
    mark.action = one.action;
    mark.until = one.until;
    mark.reason = one.reason;
    for (const std::string& spec : one.specs) {
      // what comes in the same transaction is no less there
      const bool comes =
          std::find(lines.named.install.begin(), lines.named.install.end(), spec) != lines.named.install.end();
      if (comes)
        mark.names.insert(parse_spec(spec).constraint.name);
      else
        add_installed(root, {spec}, mark.names);
    }
    if (mark.action == plan::Action::Release) request.solve.release.insert(mark.names.begin(), mark.names.end());
    request.marks.push_back(std::move(mark));
  }
}

std::string with_optional_members(Root& root, const std::string& spec) {
  const std::string with = spec + std::string(kWithOptional);
  return spec.starts_with(kGroup) && !root.universe().versions_of(with).empty() ? with : spec;
}

Removal ask_to_remove(Root& root, const std::vector<std::string>& specs, ChangeRequest request) {
  Removal removal{std::move(request), {}};
  if (removal.request.purge) removal.left = leftovers_of(root);
  removal.request.purge_also = specs;
  solve::Names gone;
  for (const Spec& spec : parse_specs(specs)) {
    const bool left_something = std::any_of(removal.left.begin(), removal.left.end(), [&](const ConfigFile& one) {
      return one.package.package.name == spec.text;
    });
    if (left_something && !root.universe().installed_of(spec.text))
      gone.insert(spec.text);
    else
      removal.request.solve.remove.merge(select_installed(root, spec));
    if (spec.group.empty()) continue;
    // with a group go its optional members, and what came with it and nothing else needs
    if (root.universe().installed_of(spec.text + std::string(kWithOptional)))
      removal.request.solve.remove.insert(spec.text + std::string(kWithOptional));
    removal.request.solve.drop_unneeded = true;
  }
  const bool only_left = removal.request.solve.remove.empty();
  std::erase_if(removal.left,
                [&](const ConfigFile& one) { return !only_left || !gone.contains(one.package.package.name); });
  return removal;
}

MarkRequest ask_to_mark(Root& root, plan::Action action, const std::vector<std::string>& specs) {
  MarkRequest request;
  request.action = action;
  add_installed(root, specs, request.names);
  return request;
}

}  // namespace hambrel::operations
