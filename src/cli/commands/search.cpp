// search, files, owner, describe.
#include "base/text.h"
#include "build/collection.h"
#include "cli/show/found.h"
#include "cli/show/package.h"
#include "cli/show/recipe.h"
#include "operations/supply.h"
#include "os/host.h"

namespace hambrel::cli {

int run_search(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const auto& words = arguments.words();
  show(session, words, search(universe, words, arguments.has("regex")));
  return 0;
}

int run_owner(Session& session, const Arguments& arguments) {
  int code = 0;
  Rows rows(session);
  for (const std::string& given : arguments.words()) {
    const std::string path = os::host_path(given);
    if (!add_owner(session, rows, path, !arguments.has("installed"))) code = exit_code(ErrorCode::NotFound);
  }
  rows.print();
  return code;
}

int run_files(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const auto shown = operations::described(session.root(), parse_spec(arguments.words()[0]));
  for (const PackageId id : shown) {
    const Package& package = session.universe().package(id);
    if (shown.size() > 1 && !session.json())
      session.screen().line(session.screen().paint(Style::Name, package.title()));
    for (const FileEntry& entry : operations::files_of(session.root(), id)) show(session, package.name, entry);
  }
  return 0;
}

namespace {

/// The recipe for a package of that name.
std::optional<build::Buildable> recipe_of(Session& session, const Spec& spec) {
  if (spec.kind != Spec::Kind::Name || spec.text != spec.constraint.name) return std::nullopt;
  return build::find_buildable(session.root(), spec.constraint.name);
}

bool is_known(Session& session, const Spec& spec) { return !session.universe().matching(spec.constraint).empty(); }

}  // namespace

int run_describe(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const auto specs = parse_specs(arguments.words());
  session.root().add_files(specs);
  bool first = true;
  const auto part = [&] {
    if (!first && !session.json()) session.screen().line();
    first = false;
  };
  for (const Spec& spec : specs) {
    const auto recipe = recipe_of(session, spec);
    if (recipe && !is_known(session, spec)) {
      part();
      show(session, *recipe);
      continue;
    }
    for (const PackageId id : operations::described(session.root(), spec)) {
      part();
      describe(session, id);
    }
    if (recipe && !session.json()) tell_of(session, *recipe);
  }
  return 0;
}

}  // namespace hambrel::cli
