#include "rehearsal/accounts.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"

namespace hambrel::rehearsal {

using What = state::LineChange::What;

namespace {

constexpr std::uint32_t kHighestSystemId = 999;  // above are people
constexpr std::uint32_t kNobody = 65534;

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  for (const std::string_view line : split(text, '\n')) lines.emplace_back(line);
  if (!lines.empty() && lines.back().empty()) lines.pop_back();
  return lines;
}

std::string text_of(const std::vector<std::string>& lines) {
  std::string text;
  for (const std::string& line : lines) text += line + '\n';
  return text;
}

std::optional<std::uint32_t> id_in(std::string_view line) {
  const auto fields = split(line, ':');
  const auto id = fields.size() > 2 ? parse_number(fields[2]) : std::nullopt;
  return id && *id < UINT32_MAX ? std::optional(static_cast<std::uint32_t>(*id)) : std::nullopt;
}

std::map<std::string, std::uint32_t> ids_in(const std::string& text) {
  std::map<std::string, std::uint32_t> ids;
  for (const std::string& line : lines_of(text))
    if (const auto id = id_in(line)) ids.emplace(line.substr(0, line.find(':')), *id);
  return ids;
}

/// Members are the last field of group and gshadow.
std::string with_member(const std::string& line, const std::string& member, bool there) {
  const std::size_t at = line.rfind(':');
  std::vector<std::string> members;
  for (const std::string_view one : split(std::string_view(line).substr(at + 1), ','))
    if (!one.empty() && one != member) members.emplace_back(one);
  if (there) members.push_back(member);
  return line.substr(0, at + 1) + join(members, ",");
}

}  // namespace

std::string with(const std::string& text, const state::LineChange& change) {
  std::vector<std::string> lines = lines_of(text);
  switch (change.what) {
    case What::Add: {
      if (std::find(lines.begin(), lines.end(), change.line) != lines.end()) return text;
      // lines that begin so stand for those of a network, and end the list
      const auto end = std::find_if(lines.begin(), lines.end(), [](const std::string& line) {
        return line.starts_with('+') || line.starts_with('-');
      });
      lines.insert(end, change.line);
      break;
    }
    case What::Drop: std::erase(lines, change.line); break;
    case What::Join:
    case What::Leave:
      for (std::string& line : lines)
        if (line.starts_with(change.line + ":")) line = with_member(line, change.member, change.what == What::Join);
      break;
  }
  return text_of(lines);
}

state::LineChange reverse_of(state::LineChange change) {
  switch (change.what) {
    case What::Add: change.what = What::Drop; break;
    case What::Drop: change.what = What::Add; break;
    case What::Join: change.what = What::Leave; break;
    case What::Leave: change.what = What::Join; break;
  }
  return change;
}

AccountBook::AccountBook(AccountTexts texts, std::uint32_t lowest, std::uint32_t highest, std::int64_t today)
    : texts_(std::move(texts)), lowest_(lowest), highest_(highest), today_(today) {}

std::map<std::string, std::uint32_t> AccountBook::users() const {
  const auto found = texts_.find("etc/passwd");
  return found == texts_.end() ? std::map<std::string, std::uint32_t>() : ids_in(found->second);
}

std::map<std::string, std::uint32_t> AccountBook::groups() const {
  const auto found = texts_.find("etc/group");
  return found == texts_.end() ? std::map<std::string, std::uint32_t>() : ids_in(found->second);
}

void AccountBook::change(state::LineChange change) {
  HAMBREL_ASSERT(change.line.find('\n') == std::string::npos && !change.line.empty(), "a line is one line");
  std::string& text = texts_[change.path];
  text = with(text, change);
  changes_.push_back(std::move(change));
}

/// One that is free as a user's and as a group's, so that both can have the same.
std::uint32_t AccountBook::free_id(std::optional<std::uint32_t> wanted) const {
  if (wanted) return *wanted;
  std::set<std::uint32_t> taken;
  for (const auto& [name, id] : users()) taken.insert(id);
  for (const auto& [name, id] : groups()) taken.insert(id);
  for (std::uint32_t id = lowest_; id <= highest_; ++id)
    if (!taken.contains(id)) return id;
  throw Error(ErrorCode::Refused, fmt::format("no id from {} to {} is free for a new account", lowest_, highest_),
              "/etc/passwd", "set [accounts] range in hambrel.toml to a wider one");
}

namespace {

/// An account that is there does as it is, or stands in the way.
void require_fits(const char* kind, const Account& account, std::uint32_t id, const std::string& package) {
  const std::string hint = "rename that account, or ask the maintainer of the package for another name";
  const auto refuse = [&](const std::string& why) {
    throw Error(ErrorCode::Refused,
                fmt::format("{} needs the {} \"{}\", which exists here {}", package, kind, account.name, why),
                kind == std::string_view("user") ? "/etc/passwd" : "/etc/group", hint);
  };
  if (account.id && *account.id != id) refuse(fmt::format("with id {}, not {}", id, *account.id));
  if (id > kHighestSystemId && id != kNobody && account.id != id) refuse(fmt::format("as a person's (id {})", id));
  if (id == 0 && account.name != "root") refuse("with id 0");
}

template <typename Ids>
void require_free(const Ids& ids, const char* kind, const Account& account, const std::string& package) {
  if (!account.id) return;
  for (const auto& [name, id] : ids)
    if (id == *account.id)
      throw Error(ErrorCode::Refused,
                  fmt::format("{} needs the id {} for its {} \"{}\", but \"{}\" has it", package, id, kind,
                              account.name, printable(name)),
                  kind == std::string_view("user") ? "/etc/passwd" : "/etc/group",
                  "give that account another id, or ask the maintainer of the package not to demand this one");
}

}  // namespace

std::uint32_t AccountBook::make_group(const std::string& name, std::optional<std::uint32_t> wanted,
                                      const std::string& package) {
  Account account;
  account.name = name;
  account.id = wanted;
  const auto ids = groups();
  if (const auto found = ids.find(name); found != ids.end()) {
    require_fits("group", account, found->second, package);
    return found->second;
  }
  require_free(ids, "group", account, package);
  const std::uint32_t id = free_id(wanted);
  change({"etc/group", What::Add, fmt::format("{}:x:{}:", name, id), {}});
  if (texts_.contains("etc/gshadow")) change({"etc/gshadow", What::Add, fmt::format("{}:!::", name), {}});
  return id;
}

void AccountBook::require(const Account& account, const std::string& package) {
  const auto users_now = users();
  if (account.group_only) {
    const bool there = groups().contains(account.name);
    const std::uint32_t id = make_group(account.name, account.id, package);
    if (!there) steps_.push_back({account.name, package, {}, id, true});
    return;
  }
  if (const auto found = users_now.find(account.name); found != users_now.end())
    return require_fits("user", account, found->second, package);
  require_free(users_now, "user", account, package);
  const auto groups_now = groups();
  const auto group = groups_now.find(account.name);
  // its group may be there already: then the same number, if no other user has it
  const bool usable =
      group != groups_now.end() &&
      std::none_of(users_now.begin(), users_now.end(), [&](const auto& one) { return one.second == group->second; });
  const std::uint32_t id = !account.id && usable ? group->second : free_id(account.id);
  const std::uint32_t group_id = group != groups_now.end() ? group->second : make_group(account.name, id, package);
  const bool shadowed = texts_.contains("etc/shadow");
  change({"etc/passwd",
          What::Add,
          fmt::format("{}:{}:{}:{}:{}:{}:{}", account.name, shadowed ? "x" : "*", id, group_id, account.text,
                      account.home.empty() ? "/" : account.home,
                      account.shell.empty() ? "/usr/sbin/nologin" : account.shell),
          {}});
  if (shadowed) change({"etc/shadow", What::Add, fmt::format("{}:!*:{}::::::", account.name, today_), {}});
  steps_.push_back({account.name, package, account.text, id, false});
}

void AccountBook::drop(const Account& account, const std::string& package) {
  const auto ids = account.group_only ? groups() : users();
  const auto known = ids.find(account.name);
  if (known == ids.end()) return;
  for (const char* const path : kAccountFiles) {
    const bool of_groups = std::string_view(path).find("g") == 4;  // group and gshadow
    const auto text = texts_.find(path);
    if (text == texts_.end() || (account.group_only && !of_groups)) continue;
    for (const std::string& line : lines_of(text->second)) {
      if (line.starts_with(account.name + ":")) {
        change({path, What::Drop, line, {}});
        continue;
      }
      if (account.group_only || !of_groups) continue;
      for (const std::string_view member : split(std::string_view(line).substr(line.rfind(':') + 1), ','))
        if (member == account.name) change({path, What::Leave, line.substr(0, line.find(':')), account.name});
    }
  }
  steps_.push_back({account.name, package, account.text, known->second, account.group_only, true});
}

void AccountBook::join(const std::string& user, const std::string& group, const std::string& package) {
  const auto found = texts_.find("etc/group");
  const std::vector<std::string> lines = found == texts_.end() ? std::vector<std::string>() : lines_of(found->second);
  const auto line =
      std::find_if(lines.begin(), lines.end(), [&](const std::string& one) { return one.starts_with(group + ":"); });
  if (line == lines.end())
    throw Error(
        ErrorCode::Refused,
        fmt::format("{} needs the group \"{}\" for its user \"{}\", and it does not exist here", package, group, user),
        "/etc/group", "install what makes the group first, or make it yourself");
  for (const std::string_view one : split(std::string_view(*line).substr(line->rfind(':') + 1), ','))
    if (one == user) return;
  change({"etc/group", What::Join, group, user});
  if (texts_.contains("etc/gshadow")) change({"etc/gshadow", What::Join, group, user});
}

void AccountBook::require(const std::vector<std::pair<const Account*, std::string>>& accounts) {
  for (const bool groups_now : {true, false})
    for (const auto& [account, package] : accounts)
      if (account->group_only == groups_now) require(*account, package);
  for (const auto& [account, package] : accounts)
    for (const std::string& group : account->groups) join(account->name, group, package);
}

}  // namespace hambrel::rehearsal
