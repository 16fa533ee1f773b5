#include "model/license.h"

#include <algorithm>
#include <array>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/text.h"

namespace hambrel {

namespace {

// Lower case, sorted. The deprecated short forms of the GNU licences are still what many packages say.
constexpr std::array kFree{"0bsd",
                           "aal",
                           "afl-1.1",
                           "afl-1.2",
                           "afl-2.0",
                           "afl-2.1",
                           "afl-3.0",
                           "agpl-3.0",
                           "agpl-3.0-only",
                           "agpl-3.0-or-later",
                           "apache-1.0",
                           "apache-1.1",
                           "apache-2.0",
                           "apsl-2.0",
                           "artistic-1.0",
                           "artistic-1.0-perl",
                           "artistic-2.0",
                           "blueoak-1.0.0",
                           "bsd-1-clause",
                           "bsd-2-clause",
                           "bsd-2-clause-patent",
                           "bsd-3-clause",
                           "bsd-3-clause-clear",
                           "bsd-4-clause",
                           "bsl-1.0",
                           "cc-by-4.0",
                           "cc-by-sa-4.0",
                           "cc0-1.0",
                           "cddl-1.0",
                           "cecill-2.0",
                           "cecill-2.1",
                           "cecill-b",
                           "cecill-c",
                           "cpl-1.0",
                           "ecl-2.0",
                           "efl-2.0",
                           "epl-1.0",
                           "epl-2.0",
                           "eupl-1.1",
                           "eupl-1.2",
                           "fsfap",
                           "ftl",
                           "gfdl-1.1-only",
                           "gfdl-1.1-or-later",
                           "gfdl-1.2-only",
                           "gfdl-1.2-or-later",
                           "gfdl-1.3-only",
                           "gfdl-1.3-or-later",
                           "gpl-2.0",
                           "gpl-2.0+",
                           "gpl-2.0-only",
                           "gpl-2.0-or-later",
                           "gpl-3.0",
                           "gpl-3.0+",
                           "gpl-3.0-only",
                           "gpl-3.0-or-later",
                           "hpnd",
                           "ijg",
                           "imatix",
                           "intel",
                           "ipa",
                           "ipl-1.0",
                           "isc",
                           "lgpl-2.0-only",
                           "lgpl-2.0-or-later",
                           "lgpl-2.1",
                           "lgpl-2.1+",
                           "lgpl-2.1-only",
                           "lgpl-2.1-or-later",
                           "lgpl-3.0",
                           "lgpl-3.0+",
                           "lgpl-3.0-only",
                           "lgpl-3.0-or-later",
                           "lpl-1.02",
                           "lppl-1.2",
                           "lppl-1.3a",
                           "lppl-1.3c",
                           "mit",
                           "mit-0",
                           "mpl-1.1",
                           "mpl-2.0",
                           "ms-pl",
                           "ms-rl",
                           "mulanpsl-2.0",
                           "ncsa",
                           "ofl-1.0",
                           "ofl-1.1",
                           "oldap-2.3",
                           "oldap-2.7",
                           "oldap-2.8",
                           "openssl",
                           "osl-3.0",
                           "php-3.01",
                           "postgresql",
                           "psf-2.0",
                           "python-2.0",
                           "qpl-1.0",
                           "ruby",
                           "sgi-b-2.0",
                           "smlnj",
                           "spl-1.0",
                           "unicode-3.0",
                           "unicode-dfs-2016",
                           "unlicense",
                           "upl-1.0",
                           "vim",
                           "w3c",
                           "wtfpl",
                           "x11",
                           "xfree86-1.1",
                           "zlib",
                           "zpl-2.0",
                           "zpl-2.1"};

/// Words and parentheses.
std::vector<std::string> tokens_of(std::string_view expression) {
  std::vector<std::string> tokens;
  std::string word;
  const auto end_word = [&] {
    if (!word.empty()) tokens.push_back(std::move(word));
    word.clear();
  };
  for (const char c : expression) {
    if (c == '(' || c == ')') {
      end_word();
      tokens.emplace_back(1, c);
    } else if (c == ' ' || c == '\t') {
      end_word();
    } else {
      word += c;
    }
  }
  end_word();
  return tokens;
}

bool is_operator(const std::string& token) {
  const std::string word = lower(token);
  return word == "and" || word == "or" || word == "with" || token == "(" || token == ")";
}

/// Recursive descent over the grammar: or-expression of and-expressions of simple ones. `accepts` is asked of each id,
/// in small letters. Can the expression be met by what it accepts?
class Check {
 public:
  Check(std::string_view expression, std::function<bool(const std::string&)> accepts)
      : tokens_(tokens_of(expression)), accepts_(std::move(accepts)) {}
  /// Nothing: it is no expression.
  std::optional<bool> holds() {
    const bool met = alternatives(0);
    return wrong_ || at_ != tokens_.size() ? std::nullopt : std::optional(met);
  }

 private:
  static constexpr int kDeepest = 32;

  bool takes(std::string_view word) {
    if (at_ == tokens_.size() || lower(tokens_[at_]) != word) return false;
    ++at_;
    return true;
  }
  bool alternatives(int depth) {
    bool free = together(depth);
    while (takes("or")) {
      const bool other = together(depth);
      free = free || other;
    }
    return free;
  }
  bool together(int depth) {
    bool free = simple(depth);
    while (takes("and")) {
      const bool other = simple(depth);
      free = free && other;
    }
    return free;
  }
  bool simple(int depth) {
    if (at_ == tokens_.size() || depth > kDeepest) return fail();
    if (takes("(")) {
      const bool free = alternatives(depth + 1);
      return takes(")") ? free : fail();
    }
    if (is_operator(tokens_[at_])) return fail();
    std::string id = lower(tokens_[at_++]);
    bool free = accepts_(id);
    if (id.ends_with('+')) {  // or any later version
      id.pop_back();
      free = free || accepts_(id);
    }
    if (takes("with")) {  // an exception only permits more
      if (at_ == tokens_.size() || is_operator(tokens_[at_])) return fail();
      ++at_;
    }
    return free;
  }
  bool fail() {
    wrong_ = true;
    return false;
  }

  const std::vector<std::string> tokens_;
  const std::function<bool(const std::string&)> accepts_;
  std::size_t at_ = 0;
  bool wrong_ = false;
};

}  // namespace

bool names_license(std::string_view expression, std::string_view pattern) {
  const std::string wanted = lower(pattern);
  const std::vector<std::string> tokens = tokens_of(expression);
  return std::any_of(tokens.begin(), tokens.end(), [&](const std::string& token) {
    std::string id = lower(token);
    if (id.ends_with('+')) id.pop_back();
    return !is_operator(token) && (glob_match(wanted, id) || glob_match(wanted, lower(token)));
  });
}

bool is_free_license(std::string_view expression) {
  const auto is_free = [](const std::string& id) {
    return std::binary_search(kFree.begin(), kFree.end(), id, std::less<std::string_view>());
  };
  return Check(expression, is_free).holds().value_or(false);
}

bool is_license_refused(std::string_view expression, const std::vector<std::string>& patterns) {
  if (patterns.empty() || expression.empty()) return false;
  const auto is_accepted = [&](const std::string& id) {
    const std::string without = id.ends_with('+') ? id.substr(0, id.size() - 1) : id;
    return std::none_of(patterns.begin(), patterns.end(), [&](const std::string& pattern) {
      return glob_match(lower(pattern), id) || glob_match(lower(pattern), without);
    });
  };
  if (const auto met = Check(expression, is_accepted).holds()) return !*met;
  return std::any_of(patterns.begin(), patterns.end(),
                     [&](const std::string& pattern) { return names_license(expression, pattern); });
}

}  // namespace hambrel
