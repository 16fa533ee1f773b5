// key: makes keys, shows them, and signs documents with them.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "cli/terminal/secret.h"
#include "operations/keys.h"

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

Json document_of(const operations::KeyFile& key) {
  Json object = {{"file", key.file},
                 {"id", key.id},
                 {"public", key.public_key},
                 {"private", key.is_private},
                 {"passphrase", key.has_passphrase}};
  if (!key.public_file.empty()) object["public_file"] = key.public_file;
  return object;
}

std::string text_of(const operations::KeyFile& key) {
  const char* const kind = !key.is_private      ? "public key"
                           : key.has_passphrase ? "private key, with a passphrase"
                                                : "private key, without a passphrase";
  return fmt::format("{}: {}\n  id      {}\n  public  {}", key.file, kind, key.id, key.public_key);
}

int make(const Session& session, const Arguments& arguments, const std::string& file) {
  const auto key = operations::make_key(file, arguments.has("passphrase") ? new_passphrase(session) : std::string());
  session.say(document_of(key),
              fmt::format("{}\nKeep {} to yourself, and a copy of it in a safe place. {} is for everybody.",
                          text_of(key), key.file, key.public_file));
  return 0;
}

}  // namespace

int run_key(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words.size() != 2)
    throw Error(ErrorCode::Usage, fmt::format("key {} needs the name of one file", printable(words.front())));
  const auto passphrase = [&](const std::string& file) { return passphrase_of(session.screen(), file); };
  if (words[0] == "new") return make(session, arguments, words[1]);
  if (words[0] == "show") {
    const auto key = operations::read_key(words[1], passphrase);
    session.say(document_of(key), text_of(key));
    return 0;
  }
  if (words[0] != "sign")
    throw Error(ErrorCode::Usage, fmt::format("key {}: must be new, show or sign", printable(words[0])));
  const auto key = arguments.value("key");
  if (!key) throw Error(ErrorCode::Usage, "key sign needs --key FILE, the private key to sign with");
  const auto made = operations::sign_document(words[1], *key, passphrase);
  session.say({{"file", made.file},
               {"type", made.type},
               {"version", made.version},
               {"key", made.key},
               {"signatures", made.signatures}},
              fmt::format("{}: {} {} is signed with key {} ({} now)", made.file, made.type, made.version, made.key,
                          count_text(made.signatures, "signature", "signatures")));
  return 0;
}

}  // namespace hambrel::cli
