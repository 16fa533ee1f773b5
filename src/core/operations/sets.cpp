#include "operations/sets.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/json.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "model/relation.h"
#include "model/spec.h"
#include "operations/asking.h"
#include "operations/channels.h"
#include "os/host.h"

namespace hambrel::operations {

namespace {

constexpr std::int64_t kSetFormat = 1;

/// A basic string of TOML: what JSON escapes, it understands.
std::string quoted(const std::string& text) { return Json(printable(text)).dump(); }

std::string name_of(const std::string& spec) { return parse_spec(spec).constraint.name; }

}  // namespace

PackageSet set_of(Root& root) {
  PackageSet set;
  const Universe& universe = root.universe();
  for (const PackageId id : universe.installed()) {
    if (universe.architecture_class(id) != 0) continue;
    const std::string name(universe.name(id));
    std::string& versions = set.installed[name];
    versions += (versions.empty() ? "" : ", ") + std::string(universe.version(id));
    if (universe.wanted(id) && (set.wanted.empty() || set.wanted.back() != name)) set.wanted.push_back(name);
    if (universe.held(id)) {
      const Hold& hold = *universe[id].installed->hold;
      set.holds[name] = {hold.until, hold.reason};
    }
  }
  if (root.state() == nullptr) return set;
  set.follows = root.state()->follows();
  for (const auto& [name, channel] : root.settings().follow) set.follows[name] = channel;
  set.picks = root.state()->picks();
  set.answers = root.state()->answers();
  return set;
}

std::string text_of(const PackageSet& set, bool versions) {
  std::string text =
      "# The packages of a system. `hambrel import-set FILE` brings another one to the same, `hambrel compare --with "
      "FILE`\n"
      "# shows what differs. [installed] is only compared: what wanted packages need comes by itself.\n";
  text += fmt::format("set = {}\n\nwanted = [\n", kSetFormat);
  for (const std::string& one : set.wanted) {
    const auto found = set.installed.find(one);
    const bool is_one = found != set.installed.end() && found->second.find(',') == std::string::npos;
    text += fmt::format("  {},\n", quoted(versions && is_one ? one + "=" + found->second : one));
  }
  text += "]\n";
  const auto table = [&](const char* title, const std::map<std::string, std::string>& all) {
    if (all.empty()) return;
    text += fmt::format("\n[{}]\n", title);
    for (const auto& [key, value] : all) text += fmt::format("{} = {}\n", quoted(key), quoted(value));
  };
  for (const auto& [name, hold] : set.holds) {
    text += fmt::format("\n[holds.{}]\n", quoted(name));
    if (hold.until != 0) text += fmt::format("until = \"{}\"\n", utc_text(hold.until).substr(0, 10));
    text += fmt::format("reason = {}\n", quoted(hold.reason));
  }
  table("follow", set.follows);
  std::map<std::string, std::string> picks;
  for (const auto& [path, file] : set.picks) picks["/" + path] = "/" + file;
  table("picks", picks);
  for (const auto& [package, answers] : set.answers) table(("answers." + quoted(package)).c_str(), answers);
  table("installed", set.installed);
  return text;
}

namespace {

/// The texts of a table of the file, by key.
template <typename Take>
void each_text(TomlTable& top, const char* key, const toml::node* node, Take take) {
  if (node == nullptr) return;
  if (!node->is_table()) top.wrong(key, "a table of texts", node);
  for (const auto& [name, value] : *node->as_table()) {
    const auto text = value.template value<std::string>();
    if (!text) top.wrong(key, "a table of texts", &value);
    take(std::string(name.str()), *text, value);
  }
}

void read_holds(TomlTable& top, const toml::node* holds, PackageSet& set) {
  if (holds == nullptr) return;
  if (!holds->is_table()) top.wrong("holds", "tables called holds.NAME", holds);
  for (const auto& [name, value] : *holds->as_table()) {
    if (!value.is_table() || !is_installable_name(name.str())) top.wrong("holds", "tables called holds.NAME", &value);
    TomlTable one = top.below(*value.as_table(), "holds." + std::string(name.str()));
    PackageSet::Held held;
    held.reason = one.text("reason", false);
    const std::string until = one.text("until", false);
    if (const auto date = parse_date(until); date && !until.empty())
      held.until = *date;
    else if (!until.empty())
      one.wrong("until", "a day, YYYY-MM-DD", one.find("until"));
    one.done();
    set.holds.emplace(name.str(), std::move(held));
  }
}

}  // namespace

PackageSet read_set(std::string_view text, const std::string& file) {
  const toml::table whole = parse_toml(text, file);
  TomlTable top(whole, file, "");
  PackageSet set;
  if (top.find("set") == nullptr)
    throw Error(ErrorCode::Invalid, "is no set of packages", file, "`hambrel export-set FILE` writes one");
  top.number("set", kSetFormat, kSetFormat, kSetFormat);
  for (const auto& [spec, at] : top.texts("wanted")) {
    const Spec parsed = parse_spec(spec);
    if (parsed.kind != Spec::Kind::Name && parsed.kind != Spec::Kind::Channel)
      throw Error(ErrorCode::Invalid, fmt::format("\"{}\" is no package", printable(spec)), at,
                  "for example \"lampdesk\", \"lampdesk=6.0.2-1\" or \"lampdesk@beta\"");
    set.wanted.push_back(spec);
  }
  read_holds(top, top.find("holds"), set);
  each_text(top, "follow", top.find("follow"), [&](std::string name, std::string channel, const toml::node& at) {
    if (!is_package_name(name) || !is_package_name(channel)) top.wrong("follow", "lines NAME = \"CHANNEL\"", &at);
    set.follows.emplace(std::move(name), std::move(channel));
  });
  each_text(top, "picks", top.find("picks"),
            [&](const std::string& path, const std::string& served, const toml::node& at) {
              if (!path.starts_with('/') || !served.starts_with('/'))
                top.wrong("picks", "lines \"/PATH\" = \"/FILE\"", &at);
              set.picks.emplace(os::host_path(path), os::host_path(served));
            });
  if (const toml::node* const answers = top.find("answers"); answers != nullptr) {
    if (!answers->is_table()) top.wrong("answers", "tables called answers.NAME", answers);
    for (const auto& [name, value] : *answers->as_table())
      each_text(top, "answers", &value,
                [&, package = std::string(name.str())](std::string key, std::string answer, const toml::node&) {
                  set.answers[package].emplace(std::move(key), std::move(answer));
                });
  }
  each_text(top, "installed", top.find("installed"), [&](std::string name, std::string version, const toml::node&) {
    set.installed.emplace(std::move(name), std::move(version));
  });
  top.done();
  return set;
}

void write_set(const std::string& text, const std::string& file) {
  os::open_file_system("/")->replace_file(os::host_path(file), text, 0644);
}

PackageSet set_at(const std::string& place, Observer& observer) {
  const auto info = os::open_file_system("/")->stat_followed(os::host_path(place));
  if (!info) throw Error(ErrorCode::NotFound, "there is no such directory or file", place, "check the path");
  if (info->type != os::FileType::Directory) return read_set(text_of_file(place), place);
  RootOptions options;
  options.path = place;
  Root other(std::move(options), observer);
  return set_of(other);
}

void ask_for(Root& root, const PackageSet& set, bool exact, ChangeRequest& request) {
  const PackageSet here = set_of(root);
  for (const auto& [name, channel] : set.follows) {
    const auto now = here.follows.find(name);
    if (now == here.follows.end() || now->second != channel) ask_to_follow(root, {name}, channel, request);
    request.solve.channels.insert(channel);  // what comes from there may need more from there
  }
  Named named;
  std::set<std::string> wanted;
  MarkRequest marked, unwanted;
  marked.action = plan::Action::Want;
  unwanted.action = plan::Action::Unwant;
  for (const std::string& spec : set.wanted) {
    const Spec parsed = parse_spec(spec);
    const std::string& name = parsed.constraint.name;
    wanted.insert(name);
    // what is here stays in its version, unless another one is named
    const auto now = root.universe().installed_of(name);
    const bool is_here =
        now && version_allowed(parsed.constraint.op, parsed.constraint.version.text(), root.universe().version(*now));
    if (!is_here || parsed.kind == Spec::Kind::Channel)
      named.install.push_back(spec);
    else if (!root.universe().wanted(*now))
      marked.names.insert(name);
  }
  if (exact) {
    for (const std::string& name : here.wanted) {
      if (wanted.contains(name)) continue;
      if (set.installed.contains(name))
        unwanted.names.insert(name);
      else
        named.remove.push_back(name);
    }
    request.solve.drop_unneeded = true;
  }
  ask_for(root, named, request);
  if (!marked.names.empty()) request.marks.push_back(std::move(marked));
  if (!unwanted.names.empty()) request.marks.push_back(std::move(unwanted));
  for (const auto& [name, held] : set.holds) {
    const auto now = here.holds.find(name);
    if (now != here.holds.end() && now->second == held) continue;
    if (held.until != 0 && held.until <= os::now()) continue;  // it is over
    MarkRequest mark;
    mark.action = plan::Action::Hold;
    mark.names.insert(name);
    if (held.until != 0) mark.until = held.until;
    if (!held.reason.empty()) mark.reason = held.reason;
    request.marks.push_back(std::move(mark));
  }
  for (const auto& [path, file] : set.picks) {
    const auto now = here.picks.find(path);
    if (now != here.picks.end() && now->second == file) continue;
    request.picks.push_back({path, now == here.picks.end() ? "" : now->second, file});
  }
  for (const auto& [package, answers] : set.answers)
    for (const auto& [key, answer] : answers) request.acting.answers.try_emplace({package, key}, GivenAnswer{answer});
}

std::string_view text_of(SetDifference::Kind kind) {
  switch (kind) {
    case SetDifference::Kind::Package: return "package";
    case SetDifference::Kind::Wanted: return "wanted";
    case SetDifference::Kind::Hold: return "hold";
    case SetDifference::Kind::Channel: return "channel";
    case SetDifference::Kind::Pick: return "pick";
    case SetDifference::Kind::Answer: return "answer";
  }
  return "";
}

std::vector<SetDifference> differences(const PackageSet& here, const PackageSet& there) {
  using Texts = std::map<std::string, std::string>;
  std::vector<SetDifference> found;
  const auto compare = [&](SetDifference::Kind kind, const Texts& ours, const Texts& theirs) {
    Texts all = theirs;
    all.insert(ours.begin(), ours.end());
    const auto of = [](const Texts& texts, const std::string& key) {
      const auto one = texts.find(key);
      return one == texts.end() ? "" : one->second;
    };
    for (const auto& [key, value] : all)
      if (of(ours, key) != of(theirs, key)) found.push_back({kind, key, of(ours, key), of(theirs, key)});
  };
  const auto wanted = [](const PackageSet& set, const PackageSet& other) {
    Texts texts;  // of what both have; what only one has is told as that
    for (const std::string& spec : set.wanted)
      if (const std::string name = name_of(spec); other.installed.contains(name)) texts[name] = "wanted";
    return texts;
  };
  const auto holds = [](const PackageSet& set) {
    Texts texts;
    for (const auto& [name, held] : set.holds)
      texts[name] = (held.until == 0 ? "for good" : "until " + utc_text(held.until).substr(0, 10)) +
                    (held.reason.empty() ? "" : ": " + held.reason);
    return texts;
  };
  const auto answers = [](const PackageSet& set) {
    Texts texts;
    for (const auto& [package, all] : set.answers)
      for (const auto& [key, answer] : all) texts[package + " " + key] = answer;
    return texts;
  };
  const auto picks = [](const PackageSet& set) {
    Texts texts;
    for (const auto& [path, file] : set.picks) texts["/" + path] = "/" + file;
    return texts;
  };
  using Kind = SetDifference::Kind;
  compare(Kind::Package, here.installed, there.installed);
  compare(Kind::Wanted, wanted(here, there), wanted(there, here));
  compare(Kind::Hold, holds(here), holds(there));
  compare(Kind::Channel, here.follows, there.follows);
  compare(Kind::Pick, picks(here), picks(there));
  compare(Kind::Answer, answers(here), answers(there));
  return found;
}

}  // namespace hambrel::operations
