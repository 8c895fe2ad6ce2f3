#include "shelf/totals.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <map>
#include <unordered_map>

#include "content/types.h"
#include "model/text.h"
#include "shelf/line.h"
#include "shelf/query.h"
#include "shelf/rows.h"

namespace undershelf {
namespace {

// A row as it counts.
struct Counted {
  bool file, stream, link;
  uint64_t size;  // bytes; 0 where it is not known
  std::string_view rating;
  int score;
  VolumeId volume;  // 0: none

  void count_in(Totals& totals) const {
    (stream ? totals.streams : file ? totals.files : totals.folders) += 1;
    if (link && file && !stream) ++totals.links;
    totals.bytes += size;
  }
  bool has_content() const { return file || stream; }
};

// Visits all rows, in no order: it takes the database long to sort, or to group, them. `key`: one
// of list_columns() or a constant, which is told besides, or what is `AS of_folder` in `more`.
void each_counted(const Shelf& shelf, const Selection& selection, std::string_view key,
                  const std::string& more,
                  const std::function<void(const Counted&, const SQLite::Column& key)>& visit) {
  const SelectionQuery query(shelf, selection);
  constexpr const char* kBesides = ", '{n}'='n' AS link, s.name AS stream";
  // The order tells which rows a limit leaves.
  const std::string rows =
      selection.limit
          ? query.select(list_columns() + kBesides + more) + query.order_and_limit()
          : query.select(
                "e.kind AS kind, s.rating AS rating, s.score AS score, e.volume AS volume, "
                "e.state AS state, coalesce(s.type, e.type) AS type, {n}.name AS name, "
                "e.modified AS modified, "
                "CASE WHEN e.kind='file' OR s.name IS NOT NULL THEN s.size END AS size" +
                std::string(kBesides) + more);
  SQLite::Statement row(
      shelf.db(), fmt::format("SELECT kind='file', stream IS NOT NULL, link, coalesce(size,0), "
                              "rating, coalesce(score,0), coalesce(volume,0), {} FROM ({})",
                              key, rows));
  while (row.executeStep()) {
    const auto rating = row.getColumn(4);
    const Counted counted{row.getColumn(0).getInt() != 0,
                          row.getColumn(1).getInt() != 0,
                          row.getColumn(2).getInt() != 0,
                          size_of(row.getColumn(3)),
                          rating.getText(),
                          row.getColumn(5).getInt(),
                          id_of<VolumeId>(row.getColumn(6))};
    visit(counted, row.getColumn(7));
  }
}

constexpr std::array<std::string_view, 7> kBy = {"type",   "extension", "state", "rating",
                                                 "folder", "day",       "volume"};
constexpr std::array<std::string_view, 4> kStates = {"live", "deleted", "former", "carved"};
constexpr std::array<std::string_view, 4> kRatings = {"whole", "likely", "partial", "gone"};

// The days of times in a zone. That of a quarter of an hour is worked out once: no zone changes
// within one.
class Days {
 public:
  explicit Days(const Zone& zone) : zone_(zone) {}
  const std::string& of(Time time) {
    constexpr int64_t kQuarter = 900 * kTicksPerSecond;
    std::string& day = known_[time.ticks / kQuarter - (time.ticks % kQuarter < 0)];
    if (day.empty()) day = to_rfc3339(zone_.to_local(time)).substr(0, 10);
    return day;
  }

 private:
  const Zone& zone_;
  std::unordered_map<int64_t, std::string> known_;
};

template <typename Words>
size_t place_in(const Words& words, std::string_view word) {
  return static_cast<size_t>(std::ranges::find(words, word) - std::ranges::begin(words));
}

void sort_groups(std::vector<Group>& groups, By by) {
  const auto words = [&](const auto& order) {
    std::ranges::sort(groups, {}, [&](const Group& g) { return place_in(order, g.value); });
  };
  if (by == By::type) return words(type_names());
  if (by == By::state) return words(kStates);
  if (by == By::rating) return words(kRatings);
  std::ranges::sort(groups, [&](const Group& a, const Group& b) {
    const bool by_bytes = by == By::extension || by == By::folder;
    if (by_bytes && a.totals.bytes != b.totals.bytes) return a.totals.bytes > b.totals.bytes;
    return std::pair(a.volume, a.value) < std::pair(b.volume, b.value);
  });
}

}  // namespace

void Group::add(const Group& more) {
  totals.files += more.totals.files;
  totals.streams += more.totals.streams;
  totals.links += more.totals.links;
  totals.bytes += more.totals.bytes;
  whole += more.whole;
  likely += more.likely;
  partial += more.partial;
  gone += more.gone;
  expected += more.expected;
}

Totals total_rows(const Shelf& shelf, const Selection& selection) {
  Totals totals;
  each_counted(shelf, selection, "0", "",
               [&](const Counted& row, const SQLite::Column&) { row.count_in(totals); });
  return totals;
}

std::vector<VolumeFiles> files_by_volume(const Shelf& shelf) {
  Selection files;
  files.kinds = {"file"};
  const SelectionQuery query(shelf, files);
  SQLite::Statement row(shelf.db(), query.select_names("e.volume, e.state, e.trashed"));
  std::map<VolumeId, VolumeFiles> counts;
  VolumeFiles* count = nullptr;  // of the row before: those of a volume stand together
  while (row.executeStep()) {
    const VolumeId volume = id_of<VolumeId>(row.getColumn(0));  // 0: what lies on no volume
    if (count == nullptr || count->volume != volume) {
      count = &counts.try_emplace(volume, VolumeFiles{volume}).first->second;
    }
    const std::string_view state = row.getColumn(1).getText();
    if (state == "live") {
      ++count->live;
      count->trashed += row.getColumn(2).getInt();
    } else if (state == "deleted") {
      ++count->deleted;
    } else if (state == "former") {
      ++count->former;
    }
  }
  std::vector<VolumeFiles> found;
  for (const auto& [volume, sum] : counts) found.push_back(sum);
  return found;
}

const std::vector<std::string>& by_names() {
  static const std::vector<std::string> kNames(kBy.begin(), kBy.end());
  return kNames;
}

By by_named(const std::string& name) { return static_cast<By>(place_in(kBy, name)); }

std::vector<Group> total_by(const Shelf& shelf, const Selection& selection, By by,
                            const Zone& zone) {
  constexpr std::array<std::string_view, kBy.size()> kKeys = {
      "type", "name", "state", "rating", "of_folder", "modified", "0"};
  constexpr const char* kFolder =
      ", CASE WHEN {o} THEN '[orphans]' WHEN {n}.parent IS NULL THEN '' "
      "ELSE coalesce(f.path,'[orphans]') END AS of_folder";
  const bool of_volume = by == By::folder || by == By::volume;
  Days days(zone);
  std::map<std::pair<VolumeId, std::string>, Group> groups;
  const auto count = [&](const Counted& row, const SQLite::Column& key) {
    if (!row.has_content()) return;
    std::string value;
    if (by == By::extension) {
      value = extension_in(key.getText());
    } else if (by == By::day) {
      if (!key.isNull()) value = days.of(Time{key.getInt64()});
    } else if (by != By::volume) {
      value = key.getText();
    }
    const VolumeId volume = of_volume ? row.volume : VolumeId{};
    Group& group = groups[{volume, value}];
    row.count_in(group.totals);
    constexpr std::array kCounts = {&Group::whole, &Group::likely, &Group::partial, &Group::gone};
    const size_t rating = place_in(kRatings, row.rating);
    if (rating < kCounts.size()) ++(group.*kCounts[rating]);
    group.expected += row.score / 100.0;
  };
  each_counted(shelf, selection, kKeys[static_cast<size_t>(by)], by == By::folder ? kFolder : "",
               count);
  std::vector<Group> found;
  for (auto& [key, group] : groups) {
    group.value = key.second;
    if (of_volume && key.first != VolumeId{}) group.volume = key.first;
    found.push_back(std::move(group));
  }
  sort_groups(found, by);
  return found;
}

std::vector<uint64_t> whole_expectations(std::span<const Group> groups) {
  std::vector<uint64_t> whole;
  std::vector<size_t> order;
  double sum = 0;
  uint64_t given = 0;
  for (const Group& group : groups) {
    order.push_back(whole.size());
    whole.push_back(static_cast<uint64_t>(group.expected));
    sum += group.expected;
    given += whole.back();
  }
  const auto rest = [&](size_t i) { return groups[i].expected - static_cast<double>(whole[i]); };
  std::ranges::stable_sort(order, std::greater(), rest);
  const auto all = static_cast<uint64_t>(std::llround(sum));
  for (size_t i = 0; given < all && i < order.size(); ++i, ++given) ++whole[order[i]];
  return whole;
}

void add_fields(Line& line, const std::string& by, const Group& group) {
  line.text("by", by);
  line.text("value", group.value.empty() ? std::nullopt : std::optional(group.value));
  line.number("volume", group.volume);
  line.count("files", group.totals.files);
  line.count("streams", group.totals.streams);
  line.count("links", group.totals.links);
  line.count("bytes", group.totals.bytes);
  line.count("whole", group.whole);
  line.count("likely", group.likely);
  line.count("partial", group.partial);
  line.count("gone", group.gone);
  line.raw("expected", fmt::format("{:.1f}", group.expected));
}

}  // namespace undershelf
