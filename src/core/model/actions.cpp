#include "model/actions.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/digest.h"
#include "base/text.h"

namespace hambrel {

namespace {

constexpr std::array<std::string_view, 4> kMoments{"install", "upgrade", "downgrade", "remove"};
constexpr std::array<std::string_view, 4> kOnUpgrade{"restart", "reload", "nothing", "stop-before"};
constexpr std::array<std::string_view, 5> kQuestionKinds{"choice", "text", "yes-no", "number", "secret"};
constexpr std::array<std::string_view, 7> kFeatures{"accounts",  "candidates", "directories", "hooks",
                                                    "questions", "services",   "triggers"};

}  // namespace

std::string_view text_of(HookMoment moment) { return kMoments[static_cast<std::size_t>(moment)]; }

std::optional<HookMoment> hook_moment_from(std::string_view text) {
  const auto found = std::find(kMoments.begin(), kMoments.end(), text);
  return found == kMoments.end() ? std::nullopt : std::optional(static_cast<HookMoment>(found - kMoments.begin()));
}

std::string_view text_of(Question::Kind kind) { return kQuestionKinds[static_cast<std::size_t>(kind)]; }

std::optional<Question::Kind> question_kind_from(std::string_view text) {
  const auto found = std::find(kQuestionKinds.begin(), kQuestionKinds.end(), text);
  if (found == kQuestionKinds.end()) return std::nullopt;
  return static_cast<Question::Kind>(found - kQuestionKinds.begin());
}

std::string Question::expected() const {
  switch (kind) {
    case Kind::Choice: return "one of " + join(choices, ", ");
    case Kind::YesNo: return "yes or no";
    case Kind::Number: return "a whole number";
    case Kind::Text:
    case Kind::Secret: break;
  }
  return "a line of text";
}

bool Question::takes(const std::string& answer) const {
  constexpr std::size_t kMostBytes = 4096;
  const auto is_digit = [](char c) { return c >= '0' && c <= '9'; };
  switch (kind) {
    case Kind::Choice: return std::find(choices.begin(), choices.end(), answer) != choices.end();
    case Kind::YesNo: return answer == "yes" || answer == "no";
    case Kind::Number: {
      const std::string digits = answer.starts_with('-') ? answer.substr(1) : answer;
      constexpr std::size_t kMostDigits = 18;
      return !digits.empty() && digits.size() <= kMostDigits && std::all_of(digits.begin(), digits.end(), is_digit);
    }
    case Kind::Text:
    case Kind::Secret: break;
  }
  return answer.size() <= kMostBytes && is_utf8(answer) && std::none_of(answer.begin(), answer.end(), [](char c) {
           return static_cast<unsigned char>(c) < 0x20 || c == 0x7F;
         });
}

std::string Question::variable() const {
  std::string name = "HAMBREL_ANSWER_";
  for (const char c : key) {
    const bool is_small = c >= 'a' && c <= 'z';
    const char other = c == '-' ? '_' : c;
    name += is_small ? static_cast<char>(c - 'a' + 'A') : other;
  }
  return name;
}

std::string_view text_of(Service::OnUpgrade one) { return kOnUpgrade[static_cast<std::size_t>(one)]; }

std::optional<Service::OnUpgrade> on_upgrade_from(std::string_view text) {
  const auto found = std::find(kOnUpgrade.begin(), kOnUpgrade.end(), text);
  if (found == kOnUpgrade.end()) return std::nullopt;
  return static_cast<Service::OnUpgrade>(found - kOnUpgrade.begin());
}

bool Hook::is_for(HookMoment moment) const { return std::find(when.begin(), when.end(), moment) != when.end(); }

std::string Program::text() const {
  constexpr std::size_t kShort = 6;  // digits: enough to tell the scripts of one package apart
  if (words.empty()) return fmt::format("a script of {} ({})", interpreter, sha256(script).hex().substr(0, kShort));
  std::vector<std::string> quoted;
  for (const std::string& word : words) quoted.push_back(shell_quoted(word));
  return join(quoted, " ");
}

std::vector<std::string> features_of(const Actions& actions) {
  std::vector<std::string> features;
  if (!actions.accounts.empty()) features.emplace_back("accounts");
  if (!actions.candidates.empty()) features.emplace_back("candidates");
  if (!actions.directories.empty()) features.emplace_back("directories");
  if (!actions.hooks.empty()) features.emplace_back("hooks");
  if (!actions.questions.empty()) features.emplace_back("questions");
  const bool reads_live =
      std::any_of(actions.hooks.begin(), actions.hooks.end(), [](const Hook& one) { return one.reads_live; });
  if (!actions.services.empty() || reads_live) features.emplace_back("services");
  if (!actions.triggers.empty()) features.emplace_back("triggers");
  return features;
}

bool is_known_feature(std::string_view feature) {
  return std::find(kFeatures.begin(), kFeatures.end(), feature) != kFeatures.end();
}

}  // namespace hambrel
