// Package files that were made, drafts of packages, repositories that were published.
#pragma once

#include "build/drafting.h"
#include "cli/session.h"
#include "operations/publishing.h"
#include "operations/repacking.h"

namespace hambrel::cli {

/// `again`: of what was installed; nullptr: of a directory.
void show(const Session& session, const operations::Packed& packed, const operations::Repacked* again);
void show(const Session& session, const build::Draft& made);
/// `request`: what was asked for.
void show(const Session& session, const operations::PublishRequest& request, const operations::Published& published);

}  // namespace hambrel::cli
