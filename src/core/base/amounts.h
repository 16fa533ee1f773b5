// Sizes, times and counts as people read them.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace hambrel {

std::string size_text(std::uint64_t bytes);   // "1.3 MiB"
std::string change_text(std::int64_t bytes);  // "+1.3 MiB", "-12 KiB", "0 B"
std::string time_text(std::int64_t seconds);  // "2026-11-23 08:15 UTC", "2026-11-23 09:15 +01:00"
/// A moment that somebody means: "today", "yesterday" (their beginnings), "30m", "2h", "3d", "1w" (ago), "2030-01-31",
/// "2030-01-31 18:30"; in local time, seconds since 1970. Nothing for anything else.
std::optional<std::int64_t> parse_moment(std::string_view text, std::int64_t now);
std::string age_text(std::int64_t now, std::int64_t then);                               // "3 minutes ago"
std::string count_text(std::size_t count, std::string_view one, std::string_view many);  // "1 package", "3 packages"

}  // namespace hambrel
