// A report of what was found: a page that opens in any browser, its figures, and the data of each.
#pragma once

#include <string>

#include "report/facts.h"
#include "shelf/selection.h"
#include "source/source.h"

namespace undershelf {

struct ReportOptions {
  std::string directory;  // a new or empty folder
  ReportHeader header;
  std::string described;  // the filters, as they were given
  std::string zone_name;  // of times in the page
  Zone zone;
  SourcePtr source;  // for a contact sheet of lost pictures; may be null: then there is none
};

// Writes report.html, and each figure as PNG, SVG and CSV, volumes.csv and files.csv. Throws Error:
// refused if the folder is not empty or cannot be made; incomplete if the target fails.
ReportFacts write_report(const Shelf& shelf, const Selection& selection,
                         const ReportOptions& options);

}  // namespace undershelf
