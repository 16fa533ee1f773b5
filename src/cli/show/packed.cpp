#include "cli/show/packed.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/json.h"
#include "base/text.h"
#include "os/host.h"
#include "plan/plan.h"

namespace hambrel::cli {

void show(const Session& session, const operations::Packed& packed, const operations::Repacked* again) {
  const Package& package = packed.written.package;
  Json document = {{"file", packed.file},
                   {"name", package.name},
                   {"version", package.version.text()},
                   {"arch", package.arch},
                   {"size", packed.written.size},
                   {"sha256", packed.written.digest.hex()},
                   {"installed_size", package.installed_size},
                   {"file_count", package.file_count}};
  std::string text = fmt::format("{}: {} {}, {} in {}", packed.file, package.title(), package.arch,
                                 size_text(packed.written.size), count_text(package.file_count, "file", "files"));
  if (again) {
    document["original"] = again->is_original;
    document["modified"] = again->changed;
    if (again->is_original)
      text += "; the original, byte for byte";
    else if (again->changed.empty())
      text += "; the same content as the original, packed anew";
    else
      text += fmt::format("; changed since it was installed: {}", printable(plan::some_of(again->changed)));
  }
  if (!again) {
    document["brings"] = packed.brings;
    document["needs"] = packed.needs;
  }
  session.say(document, text);
  if (session.json() || session.quiet()) return;
  constexpr std::size_t kMost = 8;
  const auto remark = [&](const char* what, const std::vector<std::string>& found, const char* more) {
    if (!found.empty())
      session.screen().note(fmt::format("note: {} {}{}", what, printable(first_of(found, kMost)), more));
  };
  remark("it brings", packed.brings, ", which relations.provides in package.toml does not state");
  remark("it needs", packed.needs, ": relations.requires should name what brings that");
}

void show(const Session& session, const build::Draft& made) {
  const bool is_recipe = made.kind == build::Draft::Kind::Recipe;
  std::string text = fmt::format("{}/{}: a draft of {} {}; look at it, then run `hambrel {} {}`", made.folder,
                                 is_recipe ? "recipe.toml" : "package.toml", made.name, made.version,
                                 is_recipe ? "build" : "pack", made.folder);
  for (const std::string& one : made.remarks) text += "\n  " + one;
  session.say({{"draft", made.folder},
               {"kind", is_recipe ? "recipe" : "package"},
               {"name", made.name},
               {"version", made.version},
               {"remarks", made.remarks}},
              text);
}

namespace {

Json published_to_json(const operations::Published& published) {
  Json missing = Json::array();
  for (const auto& one : published.missing)
    missing.push_back({{"file", one.file},
                       {"role", one.missing.role},
                       {"version", one.version},
                       {"signatures", one.missing.made},
                       {"threshold", one.missing.needed},
                       {"keys", one.missing.keys}});
  return {{"index", published.version},
          {"changed", published.changed},
          {"renewed", published.renewed},
          {"packages", published.packages},
          {"read", published.read},
          {"left_out", published.left_out},
          {"promoted", published.promoted},
          {"copied", published.copied},
          {"deleted", published.deleted},
          {"channels", published.channels},
          {"root", published.root == 0 ? Json() : Json(published.root)},
          {"fingerprint", published.root == 0 ? Json() : Json(published.fingerprint)},
          {"missing", std::move(missing)}};
}

std::string text_of(const operations::Published& published, const std::string& directory, bool with_packages) {
  const char* state = published.missing.empty() ? "is up to date" : "stays as it is";
  if (published.renewed) state = "is up to date, its timestamp is renewed";
  if (published.changed) state = "written";
  std::string text = directory + ": ";
  if (published.version == 0) return text + "nothing is served yet";
  text += fmt::format("index {} {}", published.version, state);
  if (with_packages)
    text += fmt::format(", {} in {}", count_text(published.packages, "package version", "package versions"),
                        published.channels.empty() ? "no channel" : join(published.channels, ", "));
  return text + (published.root == 0 ? "; not signed: adding it requires --unsigned"
                                     : fmt::format("; signed by root {}", published.root));
}

/// What has to be signed before it is served, and how.
std::string missing_text(const operations::Published& published, const std::string& directory) {
  std::string text;
  for (const auto& one : published.missing) {
    text += fmt::format("\nWaits for signatures: {}/{} has {} of {} by keys of {}", directory, one.file,
                        one.missing.made, one.missing.needed, one.missing.role);
    for (const std::string& key : one.missing.keys) text += "\n  key " + key;
  }
  const std::string file = directory + "/" + published.missing.front().file;
  return text + fmt::format(
                    "\nSign it where its keys are: hambrel key sign {} --key FILE\nThen: hambrel publish {} "
                    "--finish",
                    file, directory);
}

/// Who signs from a new root on: an old key that is still among them should be seen.
std::string roles_text(const operations::Published& published) {
  std::string text;
  if (!published.roles.empty()) text += fmt::format("\nRoot {} names:", published.asked_root);
  for (const auto& [name, threshold, keys] : published.roles) {
    text += fmt::format("\n  {:<9}  {} of {}:", name, threshold, count_text(keys.size(), "key", "keys"));
    for (const std::string& key : keys) text += " " + short_id(key);
  }
  return text;
}

/// The root's end has to be seen coming: whoever follows the repository takes nothing more after it.
std::string root_end(const operations::Published& published) {
  constexpr std::int64_t kSoon = 60 * 86400LL;
  if (published.root == 0 || published.root_expires - os::now() > kSoon) return {};
  return fmt::format("\nRoot {} expires on {}: make the next one with its keys, --rotate root", published.root,
                     utc_text(published.root_expires).substr(0, 10));
}

}  // namespace

void show(const Session& session, const operations::PublishRequest& request, const operations::Published& published) {
  std::string text = text_of(published, request.directory, !request.finish && !request.renew);
  if (!request.subset.empty())
    text += fmt::format("\nCopied {}", count_text(published.copied, "package file", "package files"));
  if (!published.promoted.empty())
    text += fmt::format("\nFrom {} to {}: {}", request.from, request.to, first_of(published.promoted));
  if (!published.missing.empty()) text += missing_text(published, request.directory);
  if (!published.left_out.empty())
    text +=
        fmt::format("\nNo longer offered, because of `keep` in repository.toml: {}; {}", first_of(published.left_out),
                    published.deleted.empty() ? "a publish a day or more later deletes their files"
                                              : "deleted: " + first_of(published.deleted));
  text += roles_text(published) + root_end(published);
  if (request.init)
    text += fmt::format("\nFingerprint, for those who are to trust it:\n  {}",
                        fmt::join(halves_of(published.fingerprint_text), "\n  "));
  session.say(published_to_json(published), text);
}

}  // namespace hambrel::cli
