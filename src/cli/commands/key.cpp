// key: makes keys, shows them, signs with them, and knows those of others.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/key.h"
#include "cli/terminal/secret.h"

namespace hambrel::cli {

namespace {

/// Typed twice, as nobody sees it.
std::string new_passphrase(const Session& session) {
  const std::string first = ask_secret(session.screen(), "New passphrase");
  if (first.empty()) throw Error(ErrorCode::Refused, "the passphrase is empty", {}, "leave out --passphrase for none");
  if (ask_secret(session.screen(), "The same again") != first)
    throw Error(ErrorCode::Refused, "the two passphrases differ", {}, "nothing was made; try again");
  return first;
}

int make(const Session& session, const Arguments& arguments, const std::string& file) {
  const auto key = operations::make_key(file, arguments.has("passphrase") ? new_passphrase(session) : std::string());
  session.say(document_of(key),
              fmt::format("{}\nKeep {} to yourself, and a copy of it in a safe place. {} is for everybody.",
                          text_of(key), key.file, key.public_file));
  return 0;
}

int list_keys(Session& session) {
  show(session, operations::known_keys(session.root()));
  return 0;
}

int add(Session& session, const std::string& file, const std::string& name) {
  const auto key = operations::add_known_key(session.root(), file, name);
  session.say({{"name", key.name}, {"id", key.id}, {"result", "added"}},
              fmt::format("{}: package files signed with key {} are accepted from now on", key.name, key.id));
  return 0;
}

int sign(const Session& session, const Arguments& arguments, const operations::Passphrase& passphrase) {
  const auto key = arguments.value("key");
  if (!key) throw Error(ErrorCode::Usage, "key sign needs --key FILE, the private key to sign with");
  const auto made = operations::sign_file(arguments.words()[1], *key, passphrase);
  Json document = {{"file", made.file}, {"type", made.type}, {"key", made.key}, {"signatures", made.signatures}};
  if (made.version != 0) document["version"] = made.version;
  session.say(document, fmt::format("{}: {}{} is signed with key {} ({} now)", made.file, made.type,
                                    made.version == 0 ? "" : fmt::format(" {}", made.version), made.key,
                                    count_text(made.signatures, "signature", "signatures")));
  return 0;
}

}  // namespace

int run_key(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string& what = words[0];
  const auto passphrase = [&](const std::string& file) { return passphrase_of(session.screen(), file); };
  const auto require_words = [&](std::size_t fewest, std::size_t most, const char* usage) {
    if (words.size() < fewest || words.size() > most)
      throw Error(ErrorCode::Usage, fmt::format("usage: hambrel key {}", usage), {},
                  "`hambrel help key` shows examples");
  };
  if (what == "list") {
    require_words(1, 1, "list");
    return list_keys(session);
  }
  if (what == "add") {
    require_words(2, 3, "add FILE [NAME]");
    return add(session, words[1], words.size() == 3 ? words[2] : std::string());
  }
  if (what == "drop") {
    require_words(2, 2, "drop NAME");
    operations::drop_known_key(session.root(), words[1]);
    session.say({{"name", words[1]}, {"result", "dropped"}}, words[1] + ": dropped");
    return 0;
  }
  if (what == "new") {
    require_words(2, 2, "new FILE");
    return make(session, arguments, words[1]);
  }
  if (what == "show") {
    require_words(2, 2, "show FILE");
    const auto key = operations::read_key(words[1], passphrase);
    session.say(document_of(key), text_of(key));
    return 0;
  }
  if (what == "sign") {
    require_words(2, 2, "sign FILE --key KEY");
    return sign(session, arguments, passphrase);
  }
  const std::string near = did_you_mean(what, {"new", "show", "sign", "add", "list", "drop"});
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel key {}`", printable(what)), {},
              near.empty() ? "use new, show, sign, add, list, drop" : near);
}

}  // namespace hambrel::cli
