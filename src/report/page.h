// The page of a report: HTML that needs nothing else.
#pragma once

#include <string>

#include "report/facts.h"

namespace undershelf {

struct PageFigures {
  std::string outlook, map, time_line;  // SVG
  std::string sheet;                    // PNG; empty if there is none
};

// `rows`: the list as lines of an HTML table; empty where it is beside the page, in files.csv.
std::string page_of(const ReportFacts& facts, const PageFigures& figures, const std::string& rows);

// A file as a line of that table.
std::string page_row(const Row& row, const Zone& zone);

}  // namespace undershelf
