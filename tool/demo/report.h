// The report of a run: one HTML file with its charts inside, drawn by gnuplot.
#pragma once
#include <string>

#include "run.h"

namespace kwind::demo {

/// Writes `file`. Returns an empty text, or one sentence about what went wrong.
std::string write_report(const std::string& file, const Settings& settings, const Outcome& outcome);

}  // namespace kwind::demo
