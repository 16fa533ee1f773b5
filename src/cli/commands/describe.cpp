// describe: everything about a package.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/package.h"
#include "model/manifest.h"

namespace hambrel::cli {

namespace {

constexpr std::size_t kLabel = 12, kWidest = 100;

class Description {
 public:
  Description(const Screen& screen, const Universe& universe, PackageId id)
      : screen_(screen), universe_(universe), id_(id) {}

  void print() const {
    const Candidate& one = universe_[id_];
    const Package& package = one.package;
    screen_.line(screen_.paint(Style::Name, package.name) + "  " + printable(package.summary));
    field("version",
          fmt::format("{}, for {}", package.version.text(), package.arch == "any" ? "any architecture" : package.arch));
    if (one.installed)
      field("state", fmt::format("installed, {}, from {}, {}", text_of(one.installed->reason), one.installed->origin,
                                 time_text(one.installed->time)));
    else
      field("state", universe_.installed_of(package.name)
                         ? fmt::format("not installed ({} is)",
                                       universe_.package(*universe_.installed_of(package.name)).version.text())
                         : "not installed");
    field("size",
          fmt::format("{} in {} installed{}", size_text(package.installed_size),
                      count_text(package.file_count, "file", "files"),
                      one.offers.empty() ? "" : fmt::format(", {} to fetch", size_text(one.offers.front().size))));
    relations("requires", package.requires_);
    relations("recommends", package.recommends);
    relations("suggests", package.suggests);
    relations("provides", package.provides);
    relations("conflicts", package.conflicts);
    relations("replaces", package.replaces);
    list("config", package.config_globs);
    list("privileged", package.privileged);
    field("category", package.category);
    field("license", package.license);
    field("homepage", package.homepage);
    field("maintainer", package.maintainer);
    field("source", package.source);
    field("restart", package.restart);
    if (!package.description.empty()) {
      screen_.line();
      screen_.raw(wrapped(printable_lines(package.description), 2, std::min(kWidest, terminal_width())));
    }
    offers();
  }

 private:
  static std::string printable_lines(const std::string& text) {
    std::vector<std::string> lines;
    for (const std::string_view line : split(text, '\n')) lines.push_back(printable(line));
    return join(lines, "\n");
  }

  void field(std::string_view label, const std::string& text) const {
    if (text.empty()) return;
    screen_.line("  " + screen_.paint(Style::Faint, fmt::format("{:<{}}", label, kLabel)) + printable(text));
  }

  void list(std::string_view label, const std::vector<std::string>& texts) const {
    for (std::size_t i = 0; i < texts.size(); ++i) field(i == 0 ? label : "", texts[i]);
  }

  template <typename Value>
  void relations(std::string_view label, const std::vector<Value>& values) const {
    std::vector<std::string> texts;
    for (const Value& value : values) texts.push_back(value.text());
    list(label, texts);
  }

  void offers() const {
    Table table(4);
    for (const PackageId id : universe_.versions_of(universe_.package(id_).name))
      for (const Offer& offer : universe_[id].offers)
        table.row({{universe_.package(id).version.text()},
                   {offer.title()},
                   {size_text(offer.size), Style::Plain, true},
                   {universe_[id].installed ? "installed"
                    : offer.followed        ? ""
                                            : "channel not followed",
                    Style::Faint}});
    if (table.empty()) return;
    screen_.line();
    screen_.line("  " + screen_.paint(Style::Faint, "to be had"));
    table.print(screen_);
  }

  const Screen& screen_;
  const Universe& universe_;
  PackageId id_;
};

}  // namespace

int run_describe(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  session.root().add_files(specs);
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  bool first = true;
  for (const Spec& spec : specs) {
    const auto ids = operations::select(session.root(), spec);
    std::vector<PackageId> shown;
    if (spec.kind == Spec::Kind::Glob) {
      for (const PackageId id : ids)
        if (shown.empty() || universe.package(shown.back()).name != universe.package(id).name) shown.push_back(id);
    } else {
      const auto installed = std::find_if(ids.begin(), ids.end(), [&](PackageId id) {
        return universe[id].installed && spec.kind != Spec::Kind::File;
      });
      shown.push_back(installed == ids.end() ? ids.front() : *installed);
    }
    for (const PackageId id : shown) {
      if (session.json()) {
        Json object = brief_json(universe, id);
        object["manifest"] = package_to_json(universe.package(id));
        Json versions = Json::array();
        for (const PackageId other : universe.versions_of(universe.package(id).name))
          versions.push_back(brief_json(universe, other));
        object["versions"] = std::move(versions);
        session.screen().line(canonical(object));
        continue;
      }
      if (!first) session.screen().line();
      first = false;
      Description(session.screen(), universe, id).print();
    }
  }
  return 0;
}

}  // namespace hambrel::cli
