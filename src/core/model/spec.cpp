#include "model/spec.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

namespace {

[[noreturn]] void wrong(std::string_view text, std::string_view expected) {
  throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the name of a package: {}", printable(text), expected), {},
              "write NAME, 'NAME>=VERSION', NAME@CHANNEL, /PATH, ./FILE.hambrel or 'GLOB*'");
}

}  // namespace

Spec parse_spec(std::string_view text) {
  Spec spec;
  spec.text = text;
  if (text.empty()) wrong(text, "it is empty");
  const bool is_url = text.starts_with("http://") || text.starts_with("https://") || text.starts_with("file://");
  if (is_url || text.starts_with("./") || text.starts_with("../") || text.ends_with(".hambrel")) {
    if (!text.ends_with(".hambrel")) wrong(text, "a package file ends in .hambrel");
    spec.kind = Spec::Kind::File;
    return spec;
  }
  if (text.starts_with("/")) {
    spec.kind = Spec::Kind::Path;
    return spec;
  }
  if (text.starts_with("group:")) {
    spec.group = text.substr(kGroup.size());
    if (!is_package_name(spec.group)) wrong(text, "a group name follows group:");
    spec.constraint.name = text;  // a package without files
    return spec;
  }
  if (text.find_first_of("*?") != std::string_view::npos) {
    spec.kind = Spec::Kind::Glob;
    return spec;
  }
  if (const auto at = text.find('@'); at != std::string_view::npos) {
    spec.kind = Spec::Kind::Channel;
    spec.constraint.name = text.substr(0, at);
    spec.channel = text.substr(at + 1);
    if (!is_package_name(spec.constraint.name) || !is_package_name(spec.channel))
      wrong(text, "it must be NAME@CHANNEL");
    return spec;
  }
  try {
    spec.constraint = parse_constraint(text, "");
  } catch (const Error&) {
    const bool name_is_good = is_package_name(trim(text.substr(0, text.find_first_of("!<>="))));
    wrong(text,
          name_is_good ? "no version follows the operator" : "names consist of lower-case letters, digits and + . _ -");
  }
  return spec;
}

}  // namespace hambrel
