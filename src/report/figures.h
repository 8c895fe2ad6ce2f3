// The figures of a report.
#pragma once

#include "report/canvas.h"
#include "report/facts.h"

namespace undershelf {

// What is to be expected back of what is lost, by type.
void draw_outlook(Canvas& canvas, const ReportFacts& facts);
// Where on the source lies what.
void draw_map(Canvas& canvas, const ReportFacts& facts);
// When files were last changed, and when deleted.
void draw_time_line(Canvas& canvas, const ReportFacts& facts);

}  // namespace undershelf
