#include "model/advisory.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "model/relation.h"

namespace hambrel {

namespace {

Version version_in(const JsonObject& object, const char* key, bool may_be_first) {
  const std::string text = object.text(key);
  if (may_be_first && text == "0") return {};
  const auto version = Version::parse(text);
  if (!version) object.wrong(key, "a version");
  return *version;
}

std::vector<Advisory::Event> events_in(const JsonObject& range) {
  using Kind = Advisory::Event::Kind;
  std::vector<Advisory::Event> events;
  const Json& list = range.member("events");
  if (!list.is_array()) range.wrong("events", "a list");
  for (const Json& one : list) {
    const JsonObject event(one, range.where());
    if (event.has("introduced")) events.push_back({Kind::Introduced, version_in(event, "introduced", true)});
    if (event.has("fixed")) events.push_back({Kind::Fixed, version_in(event, "fixed", false)});
    if (event.has("last_affected")) events.push_back({Kind::LastAffected, version_in(event, "last_affected", false)});
  }
  if (events.empty()) range.wrong("events", "a list with `introduced`, and `fixed` or `last_affected`");
  std::stable_sort(events.begin(), events.end(),
                   [](const auto& a, const auto& b) { return Version::compare_keys(a.version, b.version) < 0; });
  return events;
}

std::optional<Advisory::Affected> affected_in(const JsonObject& object) {
  const JsonObject package(object.member("package"), object.where());
  const std::string ecosystem = package.text("ecosystem");
  if (ecosystem.substr(0, ecosystem.find(':')) != kEcosystem) return std::nullopt;
  Advisory::Affected affected;
  affected.name = package.text("name");
  if (!is_package_name(affected.name)) package.wrong("name", "the name of a package");
  affected.versions = object.texts_or_none("versions");
  if (object.has("ranges"))
    for (const Json& one : object.member("ranges")) {
      const JsonObject range(one, object.where());
      if (range.text("type") == "ECOSYSTEM") affected.ranges.push_back(events_in(range));
    }
  if (affected.ranges.empty() && affected.versions.empty())
    object.wrong("ranges", "a list with one of type ECOSYSTEM, or `versions`");
  return affected;
}

Advisory advisory_in(const JsonObject& object) {
  Advisory advisory;
  advisory.id = object.text("id");
  object.text("modified");  // needed by the schema
  advisory.summary = object.text_or("summary", "");
  advisory.aliases = object.texts_or_none("aliases");
  advisory.withdrawn = object.has("withdrawn");
  if (object.has("database_specific"))
    advisory.severity = lower(JsonObject(object.member("database_specific"), object.where()).text_or("severity", ""));
  if (object.has("affected"))
    for (const Json& one : object.member("affected"))
      if (auto affected = affected_in(JsonObject(one, object.where())))
        advisory.affected.push_back(std::move(*affected));
  return advisory;
}

}  // namespace

bool Advisory::affects(std::string_view name, const Version& version) const {
  using Kind = Event::Kind;
  const auto is_in = [&](const std::vector<Event>& events) {
    bool in = false;
    for (const Event& one : events) {
      const bool is_first = one.version == Version();
      const int order = is_first ? 1 : Version::compare_keys(version, one.version);
      if (one.kind == Kind::Introduced && order >= 0) in = true;
      if (one.kind == Kind::Fixed && order >= 0) in = false;
      if (one.kind == Kind::LastAffected && order > 0) in = false;
    }
    return in;
  };
  return !withdrawn && std::any_of(affected.begin(), affected.end(), [&](const Affected& one) {
    if (one.name != name) return false;
    return std::find(one.versions.begin(), one.versions.end(), version.text()) != one.versions.end() ||
           std::any_of(one.ranges.begin(), one.ranges.end(), is_in);
  });
}

std::vector<Advisory> parse_advisories(std::string_view text, const std::string& where) {
  const Json whole = parse_json(text, where);
  if (!whole.is_array()) throw Error(ErrorCode::Invalid, "must be a list of records", where);
  std::vector<Advisory> advisories;
  for (const Json& one : whole) {
    const bool has_id = one.is_object() && one.contains("id") && one["id"].is_string();
    advisories.push_back(advisory_in(
        JsonObject(one, has_id ? fmt::format("{}: {}", where, printable(one["id"].get<std::string>())) : where)));
  }
  return advisories;
}

std::vector<NewsItem> parse_news(std::string_view text, const std::string& where) {
  const Json whole = parse_json(text, where);
  if (!whole.is_array()) throw Error(ErrorCode::Invalid, "must be a list of news", where);
  std::vector<NewsItem> news;
  for (const Json& one : whole) {
    const JsonObject object(one, where);
    news.push_back({object.text("date"), object.text("title"), object.text_or("text", "")});
    if (!parse_date(news.back().date)) object.wrong("date", "YYYY-MM-DD");
  }
  std::stable_sort(news.begin(), news.end(), [](const NewsItem& a, const NewsItem& b) { return a.date > b.date; });
  return news;
}

}  // namespace hambrel
