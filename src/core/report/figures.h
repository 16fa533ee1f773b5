// The figures of a report: what takes the space, what was done when, how it grew, what can be freed, what going back
// costs, what waits; and how mirrors compare. Each shows numbers that it has as a table, too.
#pragma once

#include <vector>

#include "repo/mirrors.h"
#include "report/drawing.h"
#include "report/facts.h"

namespace hambrel::report {

/// All that have something to show, in the order of a report.
std::vector<Figure> figures_of(const Facts& facts);

/// Packages as areas, by category. Squarified (Bruls, Huizing, van Wijk: Squarified Treemaps, 2000).
Figure disk_figure(const Facts& facts);
/// Transactions over time, a lane for each kind, with what was undone, what failed, and checkpoints.
Figure timeline_figure(const Facts& facts);
/// Disk use and packages after each transaction.
Figure trend_figure(const Facts& facts);
/// What each area takes and what of it can be freed.
Figure space_figure(const Facts& facts);
/// What the attic keeps for undoing each transaction.
Figure way_back_figure(const Facts& facts);
/// How old the installed versions are of which there are newer ones.
Figure upgrades_figure(const Facts& facts);
/// The time to ask a mirror and the rate that it sends with: medians, with the spread.
Figure mirrors_figure(const std::string& repository, const std::vector<repo::MirrorMeasure>& measures);

}  // namespace hambrel::report
