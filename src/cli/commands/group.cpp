// group: what repositories put together.
#include "cli/show/group.h"

namespace hambrel::cli {

int run_group(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  session.tell_of_unusable_repositories();
  if (words.empty() || (words[0] == "list" && words.size() == 1))
    show(session, operations::groups(session.root()));
  else if (words[0] == "describe" && words.size() == 2)
    show(session, operations::group_named(session.root(), words[1]));
  else
    throw Error(ErrorCode::Usage, "usage: hambrel group [list | describe NAME]", {},
                "`hambrel help group` shows examples");
  return 0;
}

}  // namespace hambrel::cli
