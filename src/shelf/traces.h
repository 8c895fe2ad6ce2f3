// What a sweep found and how far it got, kept in the shelf: a scan that was stopped, or killed,
// goes on from there.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "model/ids.h"
#include "model/trace.h"
#include "shelf/shelf.h"
#include "shelf/writer.h"

namespace undershelf {

// One stretch of a sweep. Several come about where a sweep of a part is widened later.
struct SweepRecord {
  ByteRange range;          // of the source
  std::string systems;      // names with commas, of those looked for
  uint64_t position = 0;    // all before it is done: byte of the source
  uint64_t unreadable = 0;  // bytes
  uint64_t left_out = 0;    // traces beyond kMostTraces
  bool done() const { return position >= range.end(); }
};

// Traces of one file system that are kept; more come from a source that is made to look like one
// great mass of metadata, or from more than some hundred million files.
constexpr uint64_t kMostTraces = 4'000'000;

// What of `range`, bytes of the source, no deep scan has looked at yet, in order.
std::vector<ByteRange> not_swept(const Shelf& shelf, const ByteRange& range);

class SweepStore {
 public:
  explicit SweepStore(Shelf& shelf) : shelf_(shelf) {}

  // The last stretch that was begun; nothing if none was.
  std::optional<SweepRecord> record() const;
  // Begins the first stretch, or, when the last one is done, a further one.
  void begin(const SweepRecord& record);
  void begin_further(SweepRecord& record, const ByteRange& range);
  // Adds what was found up to `record.position`, all or nothing. `systems` names what each list of
  // `traces` belongs to.
  void add(SweepRecord& record, std::span<const std::string> systems,
           std::span<const std::vector<Trace>> traces, std::span<const ByteRange> unreadable);
  // By place; of one kind, if that is given.
  std::vector<Trace> traces(std::string_view system, std::optional<uint32_t> kind = {}) const;
  // Those whose `number` is not 0, by place.
  std::vector<Trace> numbered_traces(std::string_view system) const;

  // More of the source can be read than when the shelf was filled: all is to be told anew, under
  // the ids it has. What was swept counts as not swept. What checks told of streams
  // all of whose bytes were there is set aside, and given back by restore_checks() to those that
  // come out the same.
  void begin_anew();
  void restore_checks();

  // Around the storing of what traces amount to. What was stored so when less of the source had
  // been looked at is set aside, to be stored anew under its ids; the end drops what was not found
  // again. `volumes`: ids of those that were.
  void begin_storing();
  void end_storing(const std::set<VolumeId>& volumes);
  uint64_t count(const std::string& system);

 private:
  Shelf& shelf_;
  std::map<std::string, uint64_t> counts_;  // as far as they were asked for
};

}  // namespace undershelf
