#include "report/figures.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <string>
#include <vector>

#include "model/words.h"

namespace undershelf {
namespace {

constexpr double kLeft = 60, kRight = Canvas::kWidth - 60;

struct Mark {
  std::string name;
  Colour colour;
};

constexpr Colour kWhole{0.10, 0.50, 0.45};
constexpr Colour kLikely{0.52, 0.74, 0.58};
constexpr Colour kPartial{0.93, 0.71, 0.36};
constexpr Colour kGone{0.70, 0.33, 0.25};
constexpr Colour kLiving{0.29, 0.41, 0.62};

Colour colour_of(Ground ground) {
  switch (ground) {
    case Ground::unreadable:
      return {0.10, 0.10, 0.12};
    case Ground::overwritten:
      return kGone;
    case Ground::living:
      return kLiving;
    case Ground::structures:
      return {0.55, 0.48, 0.67};
    case Ground::intact:
      return kWhole;
    case Ground::unsure:
      return kPartial;
    case Ground::blank:
      return {0.96, 0.88, 0.70};
    case Ground::unread:
      return {0.80, 0.80, 0.84};
    case Ground::free:
      return {0.90, 0.92, 0.94};
    case Ground::outside:
      return {0.97, 0.97, 0.96};
  }
  return kInk;
}

void draw_title(Canvas& canvas, std::string_view title, std::string_view below) {
  canvas.text(kLeft, 32, title, 28, kInk, Canvas::Align::left, kRight - kLeft, true);
  canvas.text(kLeft, 74, below, 16, kFaint, Canvas::Align::left, kRight - kLeft);
}

// In as many lines as it takes; the lower edge of the last.
double draw_legend(Canvas& canvas, double y, const std::vector<Mark>& marks) {
  constexpr double kBox = 16, kLine = 26;
  double x = kLeft;
  for (const Mark& mark : marks) {
    const double room = kBox + 8 + 10.0 * static_cast<double>(mark.name.size()) + 26;
    if (x > kLeft && x + room > kRight) {
      x = kLeft;
      y += kLine;
    }
    canvas.rectangle(x, y, kBox, kBox, mark.colour);
    canvas.line(x + 0.5, y + kBox, x + kBox, y + kBox, kRule);
    x += kBox + 8 + canvas.text(x + kBox + 8, y - 2, mark.name, 15, kInk) + 26;
  }
  return y + kLine;
}

void draw_nothing(Canvas& canvas, std::string_view why) {
  canvas.text(Canvas::kWidth / 2, Canvas::kHeight / 2, why, 18, kFaint, Canvas::Align::centre,
              kRight - kLeft);
}

// A round number that is not below `value`: 1, 2 or 5 times a power of ten.
uint64_t round_up(uint64_t value) {
  for (uint64_t power = 1;; power *= 10) {
    for (const uint64_t step : {1, 2, 5}) {
      if (step * power >= value) return step * power;
    }
    if (power > UINT64_MAX / 100) return value;
  }
}

// Horizontal rules with their numbers, and how high one file is.
double draw_scale(Canvas& canvas, double top, double bottom, uint64_t most) {
  const uint64_t high = round_up(std::max<uint64_t>(most, 2));
  const uint64_t steps = high >= 10 ? 5 : high;
  for (uint64_t i = 0; i <= steps; ++i) {
    const double share = static_cast<double>(i) / static_cast<double>(steps);
    const double y = bottom - (bottom - top) * share;
    canvas.line(kLeft + 60, std::floor(y) + 0.5, kRight, std::floor(y) + 0.5, kRule);
    canvas.text(kLeft + 50, y - 10, fmt::format("{}", high * i / steps), 14, kFaint,
                Canvas::Align::right);
  }
  return (bottom - top) / static_cast<double>(high);
}

// Whether `next` is the day, month or year right behind `before`.
bool follows(const std::string& before, const std::string& next) {
  if (before.size() != next.size()) return false;
  const auto number = [](const std::string& text, size_t at, size_t length) {
    return at >= text.size() ? 1 : std::atoi(text.substr(at, length).c_str());
  };
  const size_t dash = std::min(before.find('-'), before.size());
  CivilTime civil;
  civil.year = std::atoi(before.c_str());
  civil.month = static_cast<unsigned>(number(before, dash + 1, 2));
  civil.day = static_cast<unsigned>(number(before, dash + 4, 2));
  const bool days = before.size() > dash + 3;
  const bool months = before.size() > dash;
  if (!months) return std::atoi(next.c_str()) == civil.year + 1;
  if (!days) {
    const int count = civil.year * 12 + static_cast<int>(civil.month);
    return std::atoi(next.c_str()) * 12 + number(next, dash + 1, 2) == count + 1;
  }
  const auto time = from_civil(civil);
  if (!time) return false;
  const CivilTime then = to_civil(Time{time->ticks + 86'400 * kTicksPerSecond});
  return next == fmt::format("{:04}-{:02}-{:02}", then.year, then.month, then.day);
}

void draw_periods(Canvas& canvas, const ReportFacts& facts, double top, double bottom,
                  const std::vector<std::pair<uint64_t Period::*, Colour>>& parts) {
  uint64_t most = 0;
  for (const auto& [name, period] : facts.time_line) {
    uint64_t sum = 0;
    for (const auto& [part, colour] : parts) sum += period.*part;
    most = std::max(most, sum);
  }
  const double unit = draw_scale(canvas, top, bottom, most);
  const double left = kLeft + 70;
  const double step =
      (kRight - left) / static_cast<double>(std::max<size_t>(4, facts.time_line.size()));
  const auto every = static_cast<size_t>(std::ceil(100.0 / step));  // a label is so wide
  size_t index = 0;
  std::string before;
  for (const auto& [name, period] : facts.time_line) {
    const double x = left + step * static_cast<double>(index);
    double y = bottom;
    for (const auto& [part, colour] : parts) {
      const double height = unit * static_cast<double>(period.*part);
      y -= height;
      canvas.rectangle(x + step * 0.12, y, step * 0.76, height, colour);
    }
    if (!before.empty() && !follows(before, name)) {
      for (double dash = top; dash < bottom; dash += 12) canvas.line(x, dash, x, dash + 5, kFaint);
    }
    if (index % every == 0) {
      canvas.text(x + step / 2, bottom + 8, name, 14, kInk, Canvas::Align::centre);
    }
    before = name;
    ++index;
  }
}

}  // namespace

void draw_outlook(Canvas& canvas, const ReportFacts& facts) {
  draw_title(canvas, "What comes back",
             fmt::format("of {} lost files, by type and rating", facts.lost.totals.content()));
  const std::vector<Mark> marks = {{"whole: every byte, promised", kWhole},
                                   {"likely: every byte, probably", kLikely},
                                   {"partial: some bytes are missing", kPartial},
                                   {"gone: only the name", kGone}};
  const double top = draw_legend(canvas, 112, marks) + 20;
  if (facts.lost_types.empty())
    return draw_nothing(canvas, "Nothing of what was selected is lost.");
  const double row =
      std::min(64.0, (Canvas::kHeight - 40 - top) / static_cast<double>(facts.lost_types.size()));
  uint64_t most = 1;
  for (const Group& group : facts.lost_types) most = std::max(most, group.totals.content());
  const double left = kLeft + 120, right = kRight - 250;
  double y = top;
  const std::vector<uint64_t> expected = whole_expectations(facts.lost_types);
  auto next = expected.begin();
  for (const Group& group : facts.lost_types) {
    canvas.text(left - 14, y + row * 0.2, group.value.empty() ? "none" : group.value, 17, kInk,
                Canvas::Align::right, left - kLeft);
    double x = left;
    const std::array<std::pair<uint64_t, Colour>, 4> parts = {{{group.whole, kWhole},
                                                               {group.likely, kLikely},
                                                               {group.partial, kPartial},
                                                               {group.gone, kGone}}};
    for (const auto& [files, colour] : parts) {
      const double width = (right - left) * static_cast<double>(files) / static_cast<double>(most);
      canvas.rectangle(x, y + row * 0.12, width, row * 0.6, colour);
      x += width;
    }
    canvas.text(x + 12, y + row * 0.2,
                fmt::format("{} of {}, {}", *next++, group.totals.content(),
                            table_size(group.totals.bytes)),
                16, kInk, Canvas::Align::left, kRight - x - 12);
    y += row;
  }
}

void draw_map(Canvas& canvas, const ReportFacts& facts) {
  constexpr size_t kColumns = 96;
  const SourceMap& map = facts.map;
  draw_title(
      canvas, "Map of the source",
      fmt::format("from its first byte, line by line; each cell is {}, in the colour of most "
                  "of it",
                  table_size(map.cell_bytes)));
  std::vector<Mark> marks;
  for (size_t i = 0; i < kGrounds; ++i) {
    if (map.sums[i] == 0) continue;
    const auto ground = static_cast<Ground>(i);
    marks.push_back(
        {fmt::format("{}: {}", told_as(ground), table_size(map.sums[i])), colour_of(ground)});
  }
  const double top = draw_legend(canvas, 112, marks) + 14;
  if (map.cells.empty()) return draw_nothing(canvas, "The source is empty.");
  const size_t lines = (map.cells.size() + kColumns - 1) / kColumns;
  const double step = (kRight - kLeft - 90) / kColumns;
  const double height =
      std::min(step * 1.6, (Canvas::kHeight - 40 - top) / static_cast<double>(lines));
  const size_t every = std::max<size_t>(1, static_cast<size_t>(std::ceil(22 / height)));
  for (size_t line = 0; line < lines; ++line) {
    const double y = top + height * static_cast<double>(line);
    if (line % every == 0) {
      canvas.text(kLeft + 80, y + height / 2 - 10, table_size(line * kColumns * map.cell_bytes), 13,
                  kFaint, Canvas::Align::right);
    }
    const size_t first = line * kColumns;
    const size_t end = std::min(first + kColumns, map.cells.size());
    for (size_t cell = first; cell < end;) {
      const Ground ground = map.most_of(cell);
      const size_t begin = cell;
      while (cell < end && map.most_of(cell) == ground) ++cell;
      canvas.rectangle(kLeft + 90 + step * static_cast<double>(begin - first), y,
                       step * static_cast<double>(cell - begin), height - 1, colour_of(ground));
    }
  }
  for (size_t column = 1; column <= kColumns; ++column) {
    const double x = kLeft + 90 + step * static_cast<double>(column) - 0.5;
    canvas.line(x, top, x, top + height * static_cast<double>(lines), kPaper);
  }
}

void draw_time_line(Canvas& canvas, const ReportFacts& facts) {
  draw_title(canvas, "When",
             "files by their last change (above) and by the time of their deletion, where one is "
             "recorded (below); a broken line stands for time left out");
  const double top =
      draw_legend(canvas, 112, {{"still there", kLiving}, {"lost", kPartial}, {"deleted", kGone}}) +
      14;
  if (facts.time_line.empty()) return draw_nothing(canvas, "No file tells a time.");
  draw_periods(canvas, facts, top, 500, {{&Period::living, kLiving}, {&Period::lost, kPartial}});
  draw_periods(canvas, facts, 560, 730, {{&Period::deleted, kGone}});
}

}  // namespace undershelf
