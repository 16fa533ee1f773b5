// What holds for each part of the actions of a package, however it is written. Texts say what was expected.
#pragma once

#include <string>
#include <string_view>

#include "model/actions.h"

namespace hambrel::actions {

inline constexpr std::size_t kMost = 64;  // of each kind in one package, and of words or globs in one of them
inline constexpr std::size_t kMostScript = 64 << 10;   // bytes
inline constexpr std::uint32_t kMostId = 0x7FFF'FFFE;  // of an account

inline constexpr const char* kGlobExpected =
    "a list of path globs relative to the root, each with a plain first directory, such as usr/lib/**/*.so.*";
inline constexpr const char* kWordsExpected = "a list of words, the first an absolute path such as /sbin/ldconfig";
inline constexpr const char* kInterpreterExpected = "an absolute path such as /bin/sh";
inline constexpr const char* kMomentsExpected = R"(a list of "install", "upgrade", "downgrade", "remove")";
inline constexpr const char* kNameExpected =
    "a name of at most 31 lower-case letters, digits, '_' and '-' that begins with a letter or '_'";
inline constexpr const char* kLineExpected = "one line without ':'";
inline constexpr const char* kPathExpected = "a path relative to the root, such as var/lib/saltdb";
inline constexpr const char* kKeyExpected = "at most 40 lower-case letters, digits and - that begin with a letter";
inline constexpr const char* kKindExpected = R"("choice", "text", "yes-no", "number" or "secret")";
inline constexpr const char* kServiceExpected =
    "a name of at most 64 letters, digits and . _ @ - that begins with a letter or a digit";
inline constexpr const char* kOnUpgradeExpected = R"("restart", "reload", "nothing" or "stop-before")";
inline constexpr std::uint32_t kMostCheckSeconds = 3600;
inline constexpr std::int64_t kMostRank = 1'000'000;
inline constexpr const char* kModeExpected = "an octal text such as \"0750\"";

/// A glob of paths below the root that does not begin with a wildcard and stays out of Hambrel's own directories.
bool is_path_glob(std::string_view glob);
bool is_absolute(std::string_view path);
bool is_account_name(std::string_view name);
/// Of a question: it becomes the name of a variable.
bool is_question_key(std::string_view key);
/// As service managers and their directories take it.
bool is_service_name(std::string_view name);
/// Goes into a field of passwd.
bool is_field(std::string_view text);
/// A directory that a package may own.
bool is_directory(std::string_view path);
std::optional<std::uint32_t> mode_from(std::string_view text);
std::string mode_text(std::uint32_t mode);

}  // namespace hambrel::actions
