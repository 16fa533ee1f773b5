#include "settings/repository.h"

#include <fmt/format.h>

#include <re2/re2.h>

#include <charconv>

#include "base/error.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "model/package.h"

namespace hambrel::settings {

namespace {

constexpr std::uint64_t kMostRepositoryBytes = 1 << 20;
constexpr std::uint64_t kMostCertificates = 4 << 20;

std::string repository_file(const std::string& name) { return fmt::format("{}/{}.toml", kRepositoryDirectory, name); }
std::string credentials_file(const std::string& name) {
  return fmt::format("{}/{}.credentials", kRepositoryDirectory, name);
}

std::string checked_url_at(const std::string& url, const std::string& at) {
  try {
    return checked_url(url);
  } catch (const Error& problem) {
    throw Error(ErrorCode::Invalid, problem.problem(), at, problem.hint());
  }
}

void read_urls(TomlTable& table, Repository& repository) {
  const toml::node* const list = table.find("mirrors");
  std::vector<std::string> urls;
  for (const auto& [url, at] : table.texts("mirrors")) urls.push_back(checked_url_at(url, at));
  if (list != nullptr && urls.empty()) table.wrong("mirrors", "a list of at least one URL", list);
  const std::string url = table.text("url", list == nullptr, "the URL of the repository");
  if (!url.empty() && list != nullptr)
    throw Error(ErrorCode::Invalid, "has both url and mirrors", table.at(table.find("url")),
                "put the URL into the list of mirrors and delete this line");
  if (list == nullptr) urls.push_back(checked_url_at(url, table.at(table.find("url"))));
  repository.url = urls.front();
  repository.further.assign(urls.begin() + 1, urls.end());
  for (const auto& [spare, at] : table.texts("spare")) repository.spare.push_back(checked_url_at(spare, at));
}

/// RFC 9110, section 5.1: a name is a token; nothing of a value may end the line.
bool is_header(const std::string& text) {
  static const re2::RE2 header(R"([!#$%&'*+.^_`|~0-9A-Za-z-]+: ?[\x20-\x7e\t]*)");
  return re2::RE2::FullMatch(text, header);
}

void read_access(os::FileReader& root, TomlTable& table, Access& access) {
  for (const auto& [header, at] : table.texts("headers")) {
    if (!is_header(header))
      throw Error(ErrorCode::Invalid, "headers must be texts such as \"X-Station: skerry\"", at, "fix this line");
    access.headers.push_back(header);
  }
  access.proxy = table.text("proxy", false);
  static const re2::RE2 proxy(R"((http|https|socks5|socks5h)://[^\s"'/@\\]+/?)");
  if (!access.proxy.empty() && access.proxy != "none" && !re2::RE2::FullMatch(access.proxy, proxy))
    table.wrong("proxy",
                R"(a URL such as "http://proxy:3128" or "none"; its user and password belong into the file of)"
                " credentials, as proxy_user and proxy_password",
                table.find("proxy"));
  if (const std::string rate = table.text("rate", false); !rate.empty()) {
    const auto bytes = parse_size(rate);
    if (!bytes || *bytes == 0) table.wrong("rate", "bytes a second, such as \"500K\"", table.find("rate"));
    access.rate = *bytes;
  }
  access.timeout = static_cast<unsigned>(table.number("timeout", 1, 3600, access.timeout));
  if (std::string file = table.text("authority", false); !file.empty()) {
    if (file.starts_with('/')) file.erase(0, 1);
    if (!path_problem(file).empty() || !root.stat_followed(file))
      table.wrong("authority", fmt::format("the path of a file with certificates, and /{} is none", printable(file)),
                  table.find("authority"));
    access.authority = root.read_all(file, kMostCertificates);
  }
}

void read_credentials(os::FileReader& root, const std::string& name, Access& access) {
  const std::string path = credentials_file(name);
  const auto info = root.stat(path);
  if (!info) return;
  const std::string shown = root.shown(path);
  if (info->type != os::FileType::Regular || (info->mode & 077U) != 0)
    throw Error(ErrorCode::Invalid, "can be read by others than its owner", shown,
                fmt::format("chmod 600 {}, and change the password where others may have seen it", shown));
  std::string text;
  try {
    text = root.read_itself(path, kMostRepositoryBytes);
  } catch (const Error&) {  // who only looks may have no right to read it; a server that asks for it says so
    access.unread = shown;
    return;
  }
  const toml::table whole = parse_toml(text, shown);
  TomlTable table(whole, shown, "");
  Credentials& given = access.credentials;
  given.user = table.text("user", false);
  given.password = table.text("password", false);
  given.token = table.text("token", false);
  given.proxy_user = table.text("proxy_user", false);
  given.proxy_password = table.text("proxy_password", false);
  table.done();
  if (!given.token.empty() && !given.user.empty())
    throw Error(ErrorCode::Invalid, "has both a token and a user", shown, "delete one of them");
  for (const std::string* one : {&given.user, &given.password, &given.token, &given.proxy_user, &given.proxy_password})
    if (printable(*one) != *one)
      throw Error(ErrorCode::Invalid, "has control characters in a value", shown, "write it anew");
}

Repository read_repository(os::FileReader& root, const std::string& path, const std::string& name) {
  const std::string shown = root.shown(path);
  const toml::table whole = parse_toml(root.read_all(path, kMostRepositoryBytes), shown);
  TomlTable table(whole, shown, "");
  Repository repository;
  repository.name = name;
  read_urls(table, repository);
  if (table.find("channels") != nullptr) {
    repository.channels.clear();
    for (const auto& [channel, at] : table.texts("channels")) repository.channels.push_back(channel);
  }
  repository.enabled = table.flag("enabled", true);
  repository.rank = static_cast<std::uint32_t>(table.number("rank", 1, 99, 50));
  const std::string trust = table.text("trust", false);
  if (!trust.empty() && trust != "signed" && trust != "none")
    table.wrong("trust", R"("signed" (the default) or "none")", table.find("trust"));
  repository.accepts_unsigned = trust == "none";
  if (const std::string review = table.text("review", false); !review.empty()) {
    if (review != "changes" && review != "always" && review != "never")
      table.wrong("review", R"("changes" (the default), "always" or "never")", table.find("review"));
    repository.review = review;
  }
  const std::string hooks = table.text("hooks", false);
  if (!hooks.empty() && hooks != "declared" && hooks != "none")
    table.wrong("hooks", R"("declared" (the default) or "none")", table.find("hooks"));
  repository.hooks_allowed = hooks != "none";
  read_access(root, table, repository.access);
  table.done();
  read_credentials(root, name, repository.access);
  return repository;
}

[[noreturn]] void unknown_repository(os::FileReader& root, const std::string& name) {
  std::vector<std::string> names;
  for (const Repository& one : load_repositories(root)) names.push_back(one.name);
  const std::string near = did_you_mean(name, names);
  throw Error(ErrorCode::NotFound, fmt::format("no repository is called \"{}\"", printable(name)),
              root.shown(kRepositoryDirectory), near.empty() ? "`hambrel repo list` shows them" : near);
}

/// A text as TOML has it.
std::string quoted(const std::string& text) {
  std::string result = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') result += '\\';
    result += c;
  }
  return result + '"';
}

std::string list_text(const std::vector<std::string>& texts) {
  std::vector<std::string> all;
  for (const std::string& one : texts) all.push_back(quoted(one));
  return "[" + join(all, ", ") + "]";
}

/// What a percent-encoded part of a URL stands for (RFC 3986, section 2.1).
std::string decoded(std::string_view text) {
  std::string result;
  for (std::size_t i = 0; i < text.size(); ++i) {
    unsigned value = 0;
    const bool is_code =
        text[i] == '%' && i + 2 < text.size() &&
        std::from_chars(text.data() + i + 1, text.data() + i + 3, value, 16).ptr == text.data() + i + 3;
    result += is_code ? static_cast<char>(value) : text[i];
    if (is_code) i += 2;
  }
  return result;
}

void write_credentials(os::FileSystem& root, const std::string& name, const Credentials& credentials) {
  std::string text = "# For hambrel alone: chmod 600.\n";
  text += fmt::format("user = {}\npassword = {}\n", quoted(credentials.user), quoted(credentials.password));
  root.replace_file(credentials_file(name), text, 0600);
}

/// The text of a repository's file, to be changed in place.
std::string text_to_edit(os::FileSystem& root, const std::string& name, std::string_view key) {
  if (!is_package_name(name) || !root.stat(repository_file(name))) unknown_repository(root, name);
  const std::string path = repository_file(name);
  if (root.stat_present(path).type != os::FileType::Regular)
    throw Error(ErrorCode::Refused, "is not a regular file, so it is not edited", root.shown(path),
                fmt::format("change the line `{}` in it yourself", key));
  return root.read_itself(path, kMostRepositoryBytes);
}

/// Changes one line `KEY = ...` in a text, or adds it.
void change_line(std::string& text, const re2::RE2& line, std::string_view key, const std::string& value) {
  std::string rewrite = R"(\1)";
  for (const char c : value) rewrite += c == '\\' ? "\\\\" : std::string(1, c);
  if (!re2::RE2::Replace(&text, line, rewrite)) text = fmt::format("{} = {}\n{}", key, value, text);
}

void set_line(os::FileSystem& root, const std::string& name, const re2::RE2& line, const std::string& key,
              const std::string& value) {
  std::string text = text_to_edit(root, name, key);
  change_line(text, line, key, value);
  root.edit_file(repository_file(name), text, 0644);
}

}  // namespace

std::vector<std::string> Repository::urls() const {
  std::vector<std::string> all{url};
  all.insert(all.end(), further.begin(), further.end());
  return all;
}

std::vector<Repository> load_repositories(os::FileReader& root) {
  std::vector<Repository> result;
  const auto directory = root.stat_followed(kRepositoryDirectory);
  if (!directory) return result;
  for (const std::string& file : root.list(kRepositoryDirectory)) {
    if (!file.ends_with(".toml")) continue;
    const std::string name = file.substr(0, file.size() - 5), path = repository_file(name);
    try {
      if (!is_package_name(name))
        throw Error(ErrorCode::Invalid, "not the name of a repository", root.shown(path),
                    "use lower-case letters, digits and + . _ -");
      result.push_back(read_repository(root, path, name));
    } catch (const Error& problem) {
      Repository spoilt;
      spoilt.name = printable(name);
      spoilt.enabled = false;
      spoilt.problem = problem.what();
      result.push_back(std::move(spoilt));
    }
  }
  return result;
}

Repository read_repository_file(os::FileReader& files, const std::string& path, const std::string& name) {
  return read_repository(files, path, name);
}

std::string name_for(const std::string& url) {
  static const re2::RE2 form(R"([a-z]+://(?:[^/@]*@)?([^/:]*)(?::[0-9]+)?(/.*)?)");
  std::string host, path;
  if (!re2::RE2::FullMatch(url, form, &host, &path)) return {};
  while (path.ends_with('/')) path.pop_back();
  const std::string last = path.substr(path.rfind('/') == std::string::npos ? 0 : path.rfind('/') + 1);
  for (const std::string& text : {decoded(last), host}) {
    std::string name;
    for (const char c : lower(text)) name += is_package_name(std::string("a") + c) ? c : '-';
    if (is_package_name(name)) return name;
  }
  return {};
}

std::string checked_url(const std::string& url) {
  std::string result = url;
  while (result.ends_with('/')) result.pop_back();
  const bool known = result.starts_with("http://") || result.starts_with("https://") || result.starts_with("file:///");
  const auto scheme_end = result.find("://");
  const bool plain = result.find_first_of(" \t\r\n\"'\\<>?#") == std::string::npos && printable(result) == result;
  if (!known || !plain || result.size() < scheme_end + 4 || result.size() > 2000)
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the URL of a repository", printable(shown_url(url))), {},
                "write http://HOST/PATH, https://HOST/PATH or file:///PATH");
  return result;
}

std::pair<std::string, Credentials> without_credentials(const std::string& url) {
  static const re2::RE2 form(R"((https?://)([^/@:]*)(?::([^/@]*))?@(.*))");
  std::string scheme, user, password, rest;
  if (!re2::RE2::FullMatch(url, form, &scheme, &user, &password, &rest)) return {url, {}};
  Credentials credentials;
  credentials.user = decoded(user);
  credentials.password = decoded(password);
  return {scheme + rest, credentials};
}

void require_free_name(os::FileReader& root, const std::string& name) {
  if (!is_package_name(name))
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a name for a repository", printable(name)), {},
                "use lower-case letters, digits and + . _ -");
  if (const std::string path = repository_file(name); root.stat(path))
    throw Error(ErrorCode::Refused, fmt::format("a repository called {} exists", name), root.shown(path),
                fmt::format("choose another name, or drop it first: hambrel repo drop {}", name));
}

void add_repository(os::FileSystem& root, const Repository& repository) {
  require_free_name(root, repository.name);
  const auto [url, credentials] = without_credentials(checked_url(repository.url));
  root.make_directories(kRepositoryDirectory);
  if (credentials.any()) write_credentials(root, repository.name, credentials);
  root.replace_file(
      repository_file(repository.name),
      fmt::format("# A package repository. channels: those this root follows; rank: 1 to 99, smaller is preferred.\n"
                  "url = {}\nchannels = {}\nenabled = {}\nrank = {}\n{}",
                  quoted(url), list_text(repository.channels), repository.enabled, repository.rank,
                  repository.accepts_unsigned ? "trust = \"none\"  # what it offers is not signed\n" : ""),
      0644);
}

void add_repository_file(os::FileSystem& root, const std::string& name, const std::string& text) {
  require_free_name(root, name);
  root.make_directories(kRepositoryDirectory);
  root.replace_file(repository_file(name), text, 0644);
}

void drop_repository(os::FileSystem& root, const std::string& name) {
  if (!is_package_name(name) || !root.stat(repository_file(name))) unknown_repository(root, name);
  root.remove_file(repository_file(name));
  if (const std::string secret = credentials_file(name); root.stat(secret)) root.remove_file(secret);
  root.sync_directory(kRepositoryDirectory);
}

void set_enabled(os::FileSystem& root, const std::string& name, bool enabled) {
  static const re2::RE2 line(R"((?m)^(\s*enabled\s*=\s*)(?:true|false))");
  set_line(root, name, line, "enabled", enabled ? "true" : "false");
}

void set_accepts_unsigned(os::FileSystem& root, const std::string& name, bool accepts) {
  static const re2::RE2 line(R"((?m)^(\s*trust\s*=\s*)(?:"[^"\n]*"|'[^'\n]*')(?:[ \t]*#[^\n]*)?)");
  set_line(root, name, line, "trust", accepts ? R"("none")" : R"("signed")");
}

void set_mirrors(os::FileSystem& root, const std::string& name, const std::vector<std::string>& mirrors,
                 const std::vector<std::string>& spare) {
  static const re2::RE2 url(R"((?m)^[ \t]*url[ \t]*=[^\n]*\n?)");
  static const re2::RE2 used(R"((?ms)^([ \t]*mirrors[ \t]*=[ \t]*)\[[^\]]*\])");
  static const re2::RE2 unused(R"((?ms)^([ \t]*spare[ \t]*=[ \t]*)\[[^\]]*\])");
  std::string text = text_to_edit(root, name, "mirrors");
  re2::RE2::Replace(&text, url, "");
  if (!spare.empty() || re2::RE2::PartialMatch(text, unused)) change_line(text, unused, "spare", list_text(spare));
  change_line(text, used, "mirrors", list_text(mirrors));
  root.edit_file(repository_file(name), text, 0644);
}

}  // namespace hambrel::settings
