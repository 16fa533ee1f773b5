// What a repository tells beside its packages: known security problems (the OSV schema 1.6, ossf.github.io/osv-schema),
// and news.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/version.h"

namespace hambrel {

/// The ecosystem that records are of.
inline constexpr const char* kEcosystem = "Hambrel";

struct Advisory {
  std::string id, summary, severity;   // severity: as database_specific says it, "high"; empty: it does not
  std::vector<std::string> aliases{};  // ids that others gave it
  /// Versions of a package, by events in the order in which they count.
  struct Event {
    enum class Kind { Introduced, Fixed, LastAffected };
    Kind kind = Kind::Introduced;
    Version version;  // of Introduced: the empty one is before all others
  };
  struct Affected {
    std::string name;
    std::vector<std::vector<Event>> ranges{};
    std::vector<std::string> versions{};
  };
  std::vector<Affected> affected{};
  bool withdrawn = false;

  /// Evaluated as the schema says.
  bool affects(std::string_view name, const Version& version) const;
};

/// A list of records in JSON; members that are not known are passed over, and what is of other ecosystems.
/// Throws Error{Invalid} naming `where` and the record.
std::vector<Advisory> parse_advisories(std::string_view text, const std::string& where);

struct NewsItem {
  std::string date;  // YYYY-MM-DD
  std::string title, text{};
  bool operator==(const NewsItem&) const = default;
};
/// A list of objects in JSON, newest first. Throws Error{Invalid} naming `where`.
std::vector<NewsItem> parse_news(std::string_view text, const std::string& where);

}  // namespace hambrel
