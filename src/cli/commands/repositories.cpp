// repo and refresh.
#include "operations/repositories.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/mirrors.h"
#include "cli/show/package.h"
#include "cli/show/repository.h"
#include "operations/kept_list.h"

namespace hambrel::cli {

namespace {

int list_repositories(Session& session) {
  auto indexes = operations::repositories(session.root());
  for (operations::CachedIndex& index : indexes)
    if (index.problem.empty()) index.problem = operations::trust_damage(session.root(), index.repository.name);
  show(session, indexes);
  return 0;
}

/// After a refresh: what the next command shows is laid out anew. Returns the exit code.
int end_refresh(Session& session, const std::vector<operations::RefreshResult>& results,
                const operations::WhatsNew& whats_new = {}) {
  if (!results.empty()) operations::KeptList::renew(session.root(), list_text);
  show(session, results, whats_new);
  int code = 0;
  for (const operations::RefreshResult& result : results)
    if (result.problem) code = std::max(code, exit_code(result.problem->code()));
  return code;
}

int changed(const Session& session, const std::string& name, const std::string& result) {
  session.say({{"repository", name}, {"result", result}}, fmt::format("{}: {}", name, result));
  return 0;
}

/// Only a fingerprint that was given, or an answer on a terminal, decides: --yes does not.
void require_trust(const Session& session, const Arguments& arguments, const std::string& name,
                   const operations::OfferedRoot& root) {
  if (const auto given = arguments.value("fingerprint")) {
    if (!Digest::from_hex(bare(*given)))
      throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a fingerprint", printable(*given)), {},
                  "it has 64 hexadecimal digits, with or without blanks between them");
    if (bare(*given) == root.fingerprint) return;
    throw Error(ErrorCode::Untrusted,
                fmt::format("the root document has the fingerprint {}, not the one given", root.fingerprint_text), name,
                "nothing was changed; ask the repository's maintainer, over another channel, which one is right");
  }
  if (session.json() || !can_ask())
    throw Error(
        ErrorCode::Declined,
        session.json() ? "--json never asks whether to trust" : "there is no terminal to ask on whether to trust it",
        name, "compare the fingerprint, then give it with --fingerprint");
  session.screen().line("Compare it with the one that the maintainer publishes elsewhere.");
  session.screen().line();
  if (!is_yes(session, "Trust it?")) throw Error(ErrorCode::Declined, "nothing was changed");
}

int trust_repository(Session& session, const Arguments& arguments) {
  const std::string& name = arguments.words()[1];
  const auto root = operations::offered_root(session.root(), operations::repository_named(session.root(), name));
  if (!session.json() && !session.quiet()) show(session, name, root);
  require_trust(session, arguments, name, root);
  operations::trust_root(session.root(), name, root);
  session.say({{"repository", name}, {"result", "trusted"}},
              fmt::format("{} is trusted from now on. Next: {}", name, session.copyable("hambrel refresh " + name)));
  return 0;
}

/// What is to be added: `add URL|FILE [NAME]`, in either order.
operations::GivenRepository given_repository(const Arguments& arguments) {
  const auto is_place = [](const std::string& word) {
    return word.find("://") != std::string::npos || word.find('/') != std::string::npos || word.ends_with(".toml");
  };
  std::string place = arguments.words()[1], name = arguments.words().size() > 2 ? arguments.words()[2] : "";
  if (!is_place(place) && is_place(name)) std::swap(place, name);
  if (place.find("://") == std::string::npos && is_place(place)) {
    const std::string file = place.substr(place.rfind('/') + 1);
    if (name.empty()) name = file.substr(0, file.rfind(".toml"));
    for (const char* const option : {"channels", "rank"})
      if (arguments.has(option))
        throw Error(ErrorCode::Usage, fmt::format("--{} does not go with a file", option), {},
                    fmt::format("write `{}` into {}", option, printable(place)));
    return operations::repository_in(place, name);
  }
  if (name.empty()) name = operations::name_for(place);
  operations::GivenRepository given;
  given.repository.name = name;
  given.repository.url = place;
  if (const auto channels = arguments.value("channels")) {
    given.repository.channels.clear();
    for (const std::string_view channel : split(*channels, ',')) given.repository.channels.emplace_back(channel);
  }
  if (const auto rank = arguments.number("rank"))
    given.repository.rank = static_cast<std::uint32_t>(std::min<std::uint64_t>(*rank, UINT32_MAX));
  given.repository.accepts_unsigned = arguments.has("unsigned");
  return given;
}

/// The first refresh of what was added. Returns the exit code.
int refresh_added(Session& session, const Arguments& arguments, const std::string& name, Json document,
                  const std::string& sentence) {
  if (arguments.has("no-refresh")) {
    session.say(document, fmt::format("{}. Next: {}", sentence, session.copyable("hambrel refresh " + name)));
    return 0;
  }
  const auto results = operations::refresh(session.root(), {name});
  if (session.json()) {
    document["refresh"] = to_json(results.front());
    session.document(document);
    return results.front().problem ? exit_code(results.front().problem->code()) : 0;
  }
  session.say(document, sentence + ".");
  return end_refresh(session, results);
}

int add(Session& session, const Arguments& arguments) {
  const operations::GivenRepository given = given_repository(arguments);
  const operations::Repository& repository = given.repository;
  const bool is_unsigned = arguments.has("unsigned");
  if (is_unsigned && arguments.has("fingerprint"))
    throw Error(ErrorCode::Usage, "--unsigned and --fingerprint exclude each other");
  if (repository.accepts_unsigned && !is_unsigned)
    throw Error(ErrorCode::Refused, "the file says that nobody has to sign: trust = \"none\"",
                printable(arguments.words()[1]), "if that is what you want, say so: --unsigned");
  const std::string what = fmt::format("Added {}, following {}", repository.name, join(repository.channels, ", "));
  Json document = {{"repository", repository.name}, {"result", "added"}};
  operations::require_addable(session.root(), repository);
  if (repository.accepts_unsigned) {
    operations::add_repository(session.root(), given);
    return refresh_added(session, arguments, repository.name, document,
                         what + ". What it offers is not signed: nobody vouches for it");
  }
  const auto root = operations::offered_root(session.root(), repository);
  if (!session.json() && !session.quiet()) show(session, repository.name, root);
  require_trust(session, arguments, repository.name, root);
  operations::add_repository(session.root(), given, root);
  document["fingerprint"] = root.fingerprint;
  return refresh_added(session, arguments, repository.name, document,
                       what + ". Its signatures are verified from now on");
}

/// What it leaves without a source is told.
int drop(Session& session, const std::string& name) {
  const std::vector<std::string> left = operations::only_from(session.root(), name);
  operations::drop_repository(session.root(), name);
  Json document = {{"repository", name}, {"result", "dropped"}, {"strays", left}};
  std::string sentence = fmt::format("{}: dropped", name);
  if (!left.empty())
    sentence += fmt::format(". {} no longer available from any repository: {}",
                            count_text(left.size(), "installed package is", "installed packages are"), first_of(left));
  session.say(document, sentence);
  return 0;
}

}  // namespace

int run_repo(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string& what = words[0];
  const auto require_words = [&](std::size_t count, const char* usage) {
    if (words.size() != count)
      throw Error(ErrorCode::Usage, fmt::format("usage: hambrel repo {}", usage), {},
                  "`hambrel help repo` shows examples");
  };
  if (what == "list") {
    require_words(1, "list");
    return list_repositories(session);
  }
  if (what == "add") {
    if (words.size() != 2) require_words(3, "add URL|FILE [NAME]");
    return add(session, arguments);
  }
  if (what == "drop") {
    require_words(2, "drop NAME");
    return drop(session, words[1]);
  }
  if (what == "enable" || what == "disable") {
    require_words(2, "enable NAME");
    operations::set_enabled(session.root(), words[1], what == "enable");
    return changed(session, words[1], what + "d");
  }
  if (what == "show") {
    require_words(2, "show NAME");
    show(session, operations::facts_of(session.root(), words[1]));
    return 0;
  }
  if (what == "trust") {
    require_words(2, "trust NAME");
    return trust_repository(session, arguments);
  }
  if (what == "rank") {
    require_words(2, "rank NAME");
    return rank_mirrors(session, arguments);
  }
  const std::string near = did_you_mean(what, {"list", "show", "add", "drop", "enable", "disable", "rank", "trust"});
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel repo {}`", printable(what)), {},
              near.empty() ? "use list, show, add, drop, enable, disable, rank, trust" : near);
}

int run_refresh(Session& session, const Arguments& arguments) {
  operations::WhatsNew whats_new;
  const auto results = operations::refresh(session.root(), arguments.words(), &whats_new);
  return end_refresh(session, results, whats_new);
}

}  // namespace hambrel::cli
