#include "cli/show/package.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "model/manifest.h"
#include "operations/known_keys.h"
#include "operations/ledger.h"
#include "operations/vouching.h"

namespace hambrel::cli {

using operations::TreeLine;

Json to_json(const Universe& universe, PackageId id) {
  const Candidate& one = universe[id];
  Json object = {{"name", one.package.name},
                 {"version", one.package.version.text()},
                 {"arch", one.package.arch},
                 {"summary", one.package.summary},
                 {"installed", one.installed.has_value()},
                 {"installed_size", one.package.installed_size}};
  if (one.installed) {
    object["reason"] = text_of(one.installed->reason);
    object["origin"] = one.installed->origin;
    if (const auto newer = universe.newer_offer(id)) object["newer"] = universe.package(*newer).version.text();
  }
  Json offers = Json::array();
  for (const Offer& offer : one.offers)
    offers.push_back({{"repository", offer.repository}, {"channel", offer.channel}, {"size", offer.size}});
  object["offers"] = std::move(offers);
  return object;
}

void add_listed(Table& table, const Universe& universe, PackageId id) {
  const bool here = universe.is_installed(id), wanted = universe.wanted(id);
  const auto newer = here ? universe.newer_offer(id) : std::nullopt;
  table.row({{universe.name(id), Style::Name},
             {universe.version(id)},
             {newer ? fmt::format("-> {}", universe.version(*newer)) : "", Style::Come},
             {here ? text_of(wanted ? Reason::Wanted : Reason::PulledIn) : std::string_view("available"),
              wanted ? Style::Plain : Style::Faint},
             {universe.held(id) ? "held" : "", Style::Warn},
             {Printable(universe.summary(id)), Style::Faint}});
}

std::string list_text(const Universe& universe) {
  Table table;
  table.expect(universe.installed().size());
  for (const PackageId id : universe.installed()) add_listed(table, universe, id);
  return table.text();
}

namespace {

Json file_to_json(const FileEntry& entry, const std::string& package) {
  static constexpr const char* kTypes[] = {"file", "directory", "symlink", "hardlink"};
  Json object = {{"package", package},
                 {"path", "/" + entry.path},
                 {"type", kTypes[static_cast<int>(entry.type)]},
                 {"mode", fmt::format("{:04o}", entry.mode)},
                 {"user", entry.user},
                 {"group", entry.group},
                 {"mtime", entry.mtime},
                 {"config", entry.config}};
  if (entry.type == EntryType::File) {
    object["size"] = entry.size;
    object["sha256"] = entry.digest.hex();
  }
  if (!entry.target.empty()) object["target"] = entry.target;
  return object;
}

}  // namespace

void show(const Session& session, const std::string& package, const FileEntry& file) {
  if (session.json()) return session.document(file_to_json(file, package));
  std::string line = "/" + printable(file.path);
  if (file.type == EntryType::Directory) line += "/";
  if (file.type == EntryType::Symlink) line += " -> " + printable(file.target);
  if (file.type == EntryType::HardLink) line += " = /" + printable(file.target);
  if (file.config) line += session.screen().paint(Style::Change, "  configuration");
  session.screen().line(line);
}

void show(Session& session, const std::vector<TreeLine>& lines) {
  constexpr std::size_t kPortion = 32768;  // bytes
  std::string text;
  const Screen& screen = session.screen();
  const Universe& universe = session.universe();
  for (const TreeLine& line : lines) {
    if (session.json()) {
      session.document({{"depth", line.depth},
                        {"name", universe.name(line.id)},
                        {"version", universe.version(line.id)},
                        {"relation", line.relation},
                        {"folded", line.folded},
                        {"installed", universe.is_installed(line.id)}});
      continue;
    }
    text.append(2 * line.depth, ' ').append(screen.paint(Style::Name, universe.name(line.id))).append(" ");
    text += universe.version(line.id);
    if (!line.relation.empty()) text.append("  ").append(screen.paint(Style::Faint, line.relation));
    if (line.folded) text.append("  ").append(screen.paint(Style::Faint, "(as above)"));
    if (universe.wanted(line.id)) text += "  wanted";
    text += '\n';
    if (text.size() < kPortion) continue;
    screen.raw(text);
    text.clear();
  }
  screen.raw(text);
}

namespace {

constexpr std::size_t kLabel = 12, kWidest = 100;

class Description {
 public:
  Description(const Screen& screen, const Universe& universe, PackageId id, std::vector<std::string> vouched)
      : screen_(screen), universe_(universe), id_(id), vouched_(std::move(vouched)) {}

  void print() const {
    const Candidate& one = universe_[id_];
    const Package& package = one.package;
    screen_.line(screen_.paint(Style::Name, package.name) + "  " + printable(package.summary));
    field("version", fmt::format("{}, for {}", package.version.text(),
                                 package.is_independent() ? "any architecture" : package.arch));
    field("state", state_of(one));
    follows();
    field("size",
          fmt::format("{} in {} installed{}", size_text(package.installed_size),
                      count_text(package.file_count, "file", "files"),
                      one.offers.empty() ? "" : fmt::format(", {} to fetch", size_text(one.offers.front().size))));
    list("vouched", vouched_);
    relations("requires", package.requires_);
    relations("recommends", package.recommends);
    relations("suggests", package.suggests);
    relations("provides", package.provides);
    relations("conflicts", package.conflicts);
    relations("replaces", package.replaces);
    list("config", package.config_globs);
    list("privileged", package.privileged);
    if (package.actions) acts(*package.actions);
    field("category", package.category);
    field("license", package.license);
    field("homepage", package.homepage);
    field("maintainer", package.maintainer);
    field("source", package.source);
    field("restart", package.restart);
    field("essential", package.essential ? "yes: removed only with --allow-essential " + package.name : "");
    if (!package.description.empty()) {
      screen_.line();
      screen_.raw(wrapped(printable_lines(package.description), 2, std::min(kWidest, terminal_width())));
    }
    offers();
  }

 private:
  std::string state_of(const Candidate& one) const {
    if (one.installed)
      return fmt::format("installed, {}, from {}, {}", text_of(one.installed->reason), one.installed->origin,
                         time_text(one.installed->time));
    const auto other = universe_.installed_of(one.package.name);
    return other ? fmt::format("not installed ({} is)", universe_.version(*other)) : "not installed";
  }

  static std::string printable_lines(const std::string& text) {
    std::vector<std::string> lines;
    for (const std::string_view line : split(text, '\n')) lines.push_back(printable(line));
    return join(lines, "\n");
  }

  void field(std::string_view label, const std::string& text) const { screen_.field(label, text); }

  void list(std::string_view label, const std::vector<std::string>& texts) const {
    for (std::size_t i = 0; i < texts.size(); ++i) field(i == 0 ? label : "", texts[i]);
  }

  /// A program, below it what else there is to know of it, a line each.
  static void add_program(const std::string& occasion, const Program& program, const std::vector<std::string>& writes,
                          std::vector<std::string>& lines) {
    lines.push_back(printable(program.text()));
    lines.push_back("  " + printable(occasion));
    for (const std::string& glob : writes) lines.push_back("  may write /" + printable(glob));
    for (const std::string_view line : split(program.script, '\n'))
      if (!line.empty()) lines.push_back("  | " + printable(line));
  }

  /// What it asks for beyond its files.
  void acts(const Actions& actions) const {
    std::vector<std::string> candidates, accounts, directories, hooks, triggers, services, questions;
    for (const Account& one : actions.accounts)
      accounts.push_back(printable(fmt::format("{} {}{}{}", one.group_only ? "group" : "user", one.name,
                                               one.id ? fmt::format(", id {}", *one.id) : "",
                                               one.text.empty() ? "" : ": " + one.text)));
    for (const OwnedDirectory& one : actions.directories)
      directories.push_back(
          printable(fmt::format("/{}, of {}:{}, mode {:04o}", one.path, one.user, one.group, one.mode)));
    for (const Hook& one : actions.hooks) {
      std::vector<std::string> moments;
      for (const HookMoment moment : one.when) moments.emplace_back(text_of(moment));
      add_program("on " + join(moments, ", ") + (one.reads_live ? ", with its services stopped" : ""), one.program,
                  one.writes, hooks);
    }
    for (const Trigger& one : actions.triggers)
      add_program(fmt::format("when /{} changes", join(one.watches, ", /")), one.program, one.writes, triggers);
    for (const Candidacy& one : actions.candidates)
      candidates.push_back(printable(fmt::format("/{} for /{}, rank {}", one.link.file, one.link.path, one.rank)));
    for (const Service& one : actions.services) {
      std::string text = fmt::format("{}{}; on an upgrade: {}", one.name, one.enable ? "" : ", not enabled by itself",
                                     text_of(one.on_upgrade));
      if (!one.check.empty())
        text += fmt::format("; healthy if {} returns 0 within {} s", join(one.check, " "), one.check_seconds);
      services.push_back(printable(text));
    }
    for (const Question& one : actions.questions)
      questions.push_back(
          printable(fmt::format("{}: {} ({}{})", one.key, one.text, one.is_secret() ? "a secret" : one.expected(),
                                one.usual ? "; default " + *one.usual : "")));
    list("candidates", candidates);
    list("questions", questions);
    list("services", services);
    list("accounts", accounts);
    list("directory", directories);
    list("hooks", hooks);
    list("triggers", triggers);
  }

  template <typename Value>
  void relations(std::string_view label, const std::vector<Value>& values) const {
    std::vector<std::string> texts;
    for (const Value& value : values) texts.push_back(value.text());
    list(label, texts);
  }

  /// Where its upgrades come from, if not from the channels of its repository.
  void follows() const {
    const auto& all = universe_.view().follows;
    if (const auto found = all.find(universe_.package(id_).name); found != all.end())
      field("follows", printable(found->second));
  }

  void offers() const {
    Table table(4);
    for (const PackageId id : universe_.versions_of(universe_.package(id_).name))
      for (const Offer& offer : universe_[id].offers) {
        const char* const otherwise = offer.followed ? "" : "channel not followed";
        table.row({{universe_.package(id).version.text()},
                   {offer.title()},
                   {size_text(offer.size), Style::Plain, true},
                   {universe_[id].installed ? "installed" : otherwise, Style::Faint}});
      }
    if (table.empty()) return;
    screen_.line();
    screen_.line("  " + screen_.paint(Style::Faint, "available from"));
    table.print(screen_);
  }

  const Screen& screen_;
  const Universe& universe_;
  PackageId id_;
  const std::vector<std::string> vouched_;
};

/// By whom a package file is signed, or who vouched for what is installed when it came.
std::vector<std::string> vouched_texts(Session& session, PackageId id) {
  std::vector<std::string> texts;
  if (const auto signers = operations::signers_of(session.root(), id)) {
    for (const auto& [key, name] : *signers)
      texts.push_back(name.empty() ? "key " + key + ", which is not known here" : name + ", key " + short_id(key));
    if (texts.empty()) texts.emplace_back("by nobody: it is not signed");
    return texts;
  }
  const Candidate& one = session.universe()[id];
  if (one.installed) {
    const auto voucher = operations::voucher_of(session.root(), id);
    if (!voucher) return texts;
    return {voucher->is_nobody() ? "by nobody, when it came" : vouched_text(*voucher, one.installed->origin)};
  }
  if (one.offers.empty()) return texts;
  const plan::Voucher voucher = operations::voucher_of_offer(session.root(), id);
  if (voucher.is_nobody()) return {"by nobody: " + one.offers.front().title() + " is not verified"};
  return {vouched_text(voucher, one.offers.front().title())};
}

void add_vouched(Session& session, PackageId id, Json& object) {
  if (const auto signers = operations::signers_of(session.root(), id)) {
    Json list = Json::array();
    for (const auto& [key, name] : *signers)
      list.push_back({{"key", key}, {"name", name.empty() ? Json() : Json(name)}});
    object["signers"] = std::move(list);
  } else if (session.universe()[id].installed) {
    if (const auto voucher = operations::voucher_of(session.root(), id)) object["vouched"] = to_json(*voucher);
  } else if (!session.universe()[id].offers.empty()) {
    object["vouched"] = to_json(operations::voucher_of_offer(session.root(), id));
  }
}

}  // namespace

void describe(Session& session, PackageId id) {
  const Universe& universe = session.universe();
  if (!session.json()) return Description(session.screen(), universe, id, vouched_texts(session, id)).print();
  Json object = to_json(universe, id);
  object["manifest"] = package_to_json(universe.package(id));
  Json versions = Json::array();
  for (const PackageId other : universe.versions_of(universe.package(id).name))
    versions.push_back(to_json(universe, other));
  object["versions"] = std::move(versions);
  add_vouched(session, id, object);
  session.document(object);
}

}  // namespace hambrel::cli
