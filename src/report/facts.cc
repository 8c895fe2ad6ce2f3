#include "report/facts.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <utility>

#include "model/loss.h"
#include "shelf/rows.h"
#include "source/hash.h"

namespace undershelf {
namespace {

constexpr size_t kMapCells = 96 * 30;
constexpr size_t kMostPeriods = 48;
constexpr uint64_t kMostDamage = 20;

Group sum_of(const std::vector<Group>& groups) {
  Group sum;
  for (const Group& group : groups) sum.add(group);
  return sum;
}

uint64_t files_in(const Period& period) { return period.living + period.lost + period.deleted; }

// Days, or months or years where they would be too many; of too many years those with the most.
std::map<std::string, Period> thinned(const std::map<std::string, Period>& days) {
  std::map<std::string, Period> periods;
  for (const size_t length : {10, 7, 4}) {
    periods.clear();
    for (const auto& [day, period] : days) {
      Period& sum = periods[day.substr(0, day.size() - (10 - length))];
      sum.living += period.living;
      sum.lost += period.lost;
      sum.deleted += period.deleted;
    }
    if (periods.size() <= kMostPeriods) return periods;
  }
  while (periods.size() > kMostPeriods) {
    periods.erase(std::ranges::min_element(
        periods, {}, [](const auto& period) { return files_in(period.second); }));
  }
  return periods;
}

std::string hash_of_blocks(const SourceIdentity& source) {
  Sha256 hash;
  for (const BlockHash& block : source.blocks) {
    hash.update(std::as_bytes(std::span(block.sha256)));
  }
  return source.blocks.empty() ? std::string() : hash.hex();
}

class Gatherer {
 public:
  Gatherer(const Shelf& shelf, const Zone& zone) : zone_(zone) {
    SQLite::Statement row(shelf.db(),
                          "SELECT DISTINCT s.id, l.cause FROM losses l JOIN streams s ON "
                          "s.id=l.stream ORDER BY 1");
    while (row.executeStep()) {
      const auto cause = cause_named(row.getColumn(1).getString());
      if (cause) causes_.emplace(id_of<StreamId>(row.getColumn(0)), why_of(*cause));
    }
  }

  void look_at(const Row& row, ReportFacts& facts) {
    ++facts.rows;
    const bool lost = row.state != "live";
    if (row.modified && !row.link && !row.stream) {
      Period& period = days_[day_of(*row.modified, zone_)];
      ++(lost ? period.lost : period.living);
    }
    if (row.deleted && !row.link && !row.stream) ++days_[day_of(*row.deleted, zone_)].deleted;
    if (!lost) return;
    const auto [first, end] = causes_.equal_range(row.stream_id);
    std::set<std::string_view> told;
    for (auto cause = first; cause != end; ++cause) told.insert(cause->second);
    for (const std::string_view why : told) ++facts.losses[std::string(why)];
  }

  std::map<std::string, Period> time_line() const { return thinned(days_); }

 private:
  const Zone& zone_;
  std::map<std::string, Period> days_;
  std::multimap<StreamId, std::string_view> causes_;
};

}  // namespace

std::string day_of(const Time& time, const Zone& zone) {
  const CivilTime civil = to_civil(zone.to_local(time));
  return fmt::format("{:04}-{:02}-{:02}", civil.year, civil.month, civil.day);
}

ReportFacts gather_facts(const Shelf& shelf, const Selection& selection, const Zone& zone,
                         const std::function<void(const Row&)>& visit) {
  ReportFacts facts;
  facts.source = shelf.source();
  facts.source_hash = hash_of_blocks(facts.source);
  facts.scans = shelf.scans();
  facts.volumes = shelf.volumes();
  facts.damage = shelf.damage_count();
  facts.damage_sentences = shelf.damage_sentences(kMostDamage);
  facts.types = total_by(shelf, selection, By::type, zone);
  facts.states = total_by(shelf, selection, By::state, zone);
  Selection lost = selection;
  if (lost.states.empty()) lost.states = {"deleted", "former", "carved"};
  std::erase(lost.states, "live");
  if (!lost.states.empty()) facts.lost_types = total_by(shelf, lost, By::type, zone);
  facts.all = sum_of(facts.types);
  facts.lost = sum_of(facts.lost_types);
  facts.map = map_source(shelf, kMapCells);
  Gatherer gatherer(shelf, zone);
  each_row(shelf, selection, [&](const Row& row) {
    if (row.is_folder()) return true;
    gatherer.look_at(row, facts);
    visit(row);
    return true;
  });
  facts.time_line = gatherer.time_line();
  return facts;
}

}  // namespace undershelf
