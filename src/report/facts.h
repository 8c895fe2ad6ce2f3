// What a report tells, gathered from a shelf.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "report/source_map.h"
#include "shelf/selection.h"
#include "shelf/totals.h"

namespace undershelf {

// Who the report is from, and for. Any may be empty.
struct ReportHeader {
  std::string shop, job, customer;
};

// Files by the day, month or year of their last change or deletion.
struct Period {
  uint64_t living = 0, lost = 0;  // by their last change
  uint64_t deleted = 0;           // by the time of deletion, where one is recorded
};

struct ReportFacts {
  ReportHeader header;
  std::string described;  // the filters, as they were given; empty: everything
  std::string zone;       // in which times are told: its name
  SourceIdentity source;
  std::string source_hash;  // SHA-256 over the hashes of the blocks that the shelf remembers
  std::vector<ScanRecord> scans;
  std::vector<VolumeRecord> volumes;
  std::vector<Group> states, types, lost_types;  // of what was selected
  Group all, lost;                               // sums of `types` and `lost_types`
  std::map<std::string, Period> time_line;       // by 2026, 2026-03 or 2026-03-04; at most 48
  std::map<std::string, uint64_t> losses;  // why, as in `missing`: files, of what was selected
  SourceMap map;
  uint64_t damage = 0;                        // places
  std::vector<std::string> damage_sentences;  // of these, some
  uint64_t rows = 0;                          // files and streams of the list
};

// 2026-03-04, in the zone.
std::string day_of(const Time& time, const Zone& zone);

// `visit` is told of each file of what was selected, in the order of `list`.
ReportFacts gather_facts(const Shelf& shelf, const Selection& selection, const Zone& zone,
                         const std::function<void(const Row&)>& visit);

}  // namespace undershelf
