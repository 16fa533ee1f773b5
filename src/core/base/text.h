// Helpers for text and bytes that have no better home. Pure functions.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace hambrel {

std::string to_hex(std::span<const std::byte> data);
std::string to_base64(std::string_view data);
/// The bytes of strict base64 (RFC 4648, padded); nothing if the text is not that.
std::optional<std::string> from_base64(std::string_view text);

std::string_view trim(std::string_view text);
std::vector<std::string_view> split(std::string_view text, char separator);
std::string join(const std::vector<std::string>& parts, std::string_view separator);
/// "a, b, c, d, e and 7 more"
std::string first_of(std::vector<std::string> parts, std::size_t most = 5);
std::string lower(std::string_view text);
bool is_utf8(std::string_view text);
/// Nothing but printable ASCII.
bool is_plain(std::string_view text);
/// The same for lines of it.
bool are_plain_lines(std::string_view text);
/// The text with control characters and broken UTF-8 written as \xNN, so that no input can drive a terminal.
std::string printable(std::string_view text);
/// The same of a line that a program printed: tabs become blanks.
std::string printable_line(std::string_view line);

/// The same for what goes to a terminal as it is: line breaks stay, and with `styled` the style codes that Screen
/// gives. In `json` what can't stay is written as \\uNNNN, which says the same.
std::string terminal_text(std::string_view text, bool styled, bool json);

/// Whole-number parse without sign, space or overflow.
std::optional<std::uint64_t> parse_number(std::string_view text);
/// "300", "300K", "1.5M", "2G": bytes, in powers of 1024.
std::optional<std::uint64_t> parse_size(std::string_view text);

/// Percent-encodes everything in one URL path segment but RFC 3986's unreserved characters.
std::string url_segment(std::string_view text);

/// A word as a POSIX shell reads it back: as it is where every character is harmless, else in single quotes.
std::string shell_quoted(std::string_view word);

/// For messages and records: what stands before the host's '@' in each URL of the text becomes "***".
std::string shown_url(std::string_view text);

/// Shell-like pattern for names: * any run, ? one character. No other character is special.
bool glob_match(std::string_view pattern, std::string_view text);
/// Pattern for paths: * and ? stop at '/', ** crosses it.
bool path_glob_match(std::string_view pattern, std::string_view path);

/// Optimal string alignment distance (Damerau-Levenshtein without repeated edits of one substring), capped:
/// returns limit + 1 as soon as the distance must exceed limit. In characters of bytes.
std::size_t edit_distance(std::string_view a, std::string_view b, std::size_t limit);
/// At most `most` of the candidates that look like a misspelling of `word`, nearest first, then by name.
std::vector<std::string> similar(std::string_view word, const std::vector<std::string>& candidates,
                                 std::size_t most = 3);
/// "did you mean a, b or c?", or empty without candidates.
std::string did_you_mean(std::string_view word, const std::vector<std::string>& candidates);

/// UTC time as RFC 3339 text, seconds since 1970 in.
std::string utc_text(std::int64_t seconds);
/// Seconds since 1970 at the beginning of a day (UTC) given as YYYY-MM-DD; nothing for any other text.
/// What utc_text() gives, back; nothing for anything else.
std::optional<std::int64_t> parse_utc(std::string_view text);
std::optional<std::int64_t> parse_date(std::string_view text);
/// "Sun, 06 Nov 1994 08:49:37 GMT" (RFC 9110, section 5.6.7): seconds since 1970; nothing for any other form.
std::optional<std::int64_t> parse_http_date(std::string_view text);

}  // namespace hambrel
