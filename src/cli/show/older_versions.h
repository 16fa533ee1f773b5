// The older versions of a package that can be had.
#pragma once

#include "cli/session.h"
#include "operations/downgrading.h"

namespace hambrel::cli {

void show(Session& session, const operations::OlderVersions& older);

}  // namespace hambrel::cli
