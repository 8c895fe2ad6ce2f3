#include "report/sheet.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <sstream>
#include <utility>
#include <vector>

#include "access/content.h"
#include "access/spaces.h"
#include "checking/preview.h"
#include "model/encoding.h"
#include "model/error.h"
#include "model/text.h"
#include "model/words.h"
#include "report/canvas.h"

namespace undershelf {
namespace {

constexpr size_t kColumns = 6, kLines = 4;
constexpr double kEdge = 20, kTop = 44;
constexpr double kCellWidth = (Canvas::kWidth - 2 * kEdge) / kColumns;
constexpr double kCellHeight = (Canvas::kHeight - kTop - 10) / kLines;
constexpr double kBelow = 44;  // of a cell: for two lines of text
constexpr double kGap = 10;
constexpr double kTextSize = 8, kTextLine = 12;
constexpr size_t kTextLines = 10;

struct Tile {
  std::string name, told;  // the second line: size and rating
  std::string format;      // shown where there is no picture
  std::optional<checking::Preview> preview;
  std::vector<std::string> lines;  // of its text, where there is some and no picture
};

Colour colour_of(const std::string& rating) {
  if (rating == "whole") return {0.10, 0.50, 0.45};
  if (rating == "likely") return {0.36, 0.58, 0.42};
  if (rating == "partial") return {0.72, 0.47, 0.10};
  return kFaint;
}

void draw_tile(Canvas& canvas, size_t index, const Tile& tile) {
  const double x = kEdge + kCellWidth * static_cast<double>(index % kColumns) + kGap / 2;
  const size_t line = index / kColumns;
  const double y = kTop + kCellHeight * static_cast<double>(line);
  const double width = kCellWidth - kGap;
  const double height = kCellHeight - kBelow - kGap;
  canvas.rectangle(x, y, width, height, {0.95, 0.95, 0.94});
  if (tile.preview) {
    const auto& preview = *tile.preview;
    canvas.picture(x + (width - preview.width) / 2, y + (height - preview.height) / 2, preview);
  } else if (!tile.lines.empty()) {
    for (size_t i = 0; i < tile.lines.size(); ++i) {
      canvas.text(x + 6, y + 5 + kTextLine * static_cast<double>(i), tile.lines[i], kTextSize, kInk,
                  Canvas::Align::left, width - 12);
    }
  } else {
    canvas.text(x + width / 2, y + height / 2 - 18, tile.format.empty() ? "?" : tile.format, 17,
                kFaint, Canvas::Align::centre, width - 10);
    canvas.text(x + width / 2, y + height / 2 + 6, "no picture to show", 12, kFaint,
                Canvas::Align::centre, width - 10);
  }
  canvas.text(x, y + height + 3, tile.name, 13, kInk, Canvas::Align::left, width);
  const std::string rating = tile.told.substr(tile.told.rfind(' ') + 1);
  canvas.text(x, y + height + 21, tile.told, 12, colour_of(rating), Canvas::Align::left, width);
}

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  std::istringstream in(text);
  for (std::string line; lines.size() < kTextLines && std::getline(in, line);) {
    if (line.ends_with('\r')) line.pop_back();
    std::ranges::replace(line, '\t', ' ');
    lines.push_back(without_controls(line));
  }
  return lines;
}

class SheetMaker {
 public:
  SheetMaker(const Shelf& shelf, const SourcePtr& source, const SheetOptions& options)
      : shelf_(shelf),
        options_(options),
        spaces_(shelf, source),
        opener_(shelf, spaces_),
        previewer_(static_cast<uint32_t>(kCellWidth - kGap),
                   static_cast<uint32_t>(kCellHeight - kBelow - kGap)) {}

  SheetResult run(const Selection& selection) {
    result_.all_decoders = previewer_.decodes_all();
    each_row(shelf_, selection, [&](const Row& row) {
      if (options_.interrupts != nullptr && *options_.interrupts > 0) result_.stopped = true;
      if (result_.stopped) return false;
      if (row.is_folder() || row.stream || (row.rating && *row.rating == "gone")) return true;
      add(row);
      return true;
    });
    if (!tiles_.empty()) end_page();
    if (result_.shown == 0 && !result_.stopped) {
      throw Error(Failure::incomplete,
                  "There is nothing to show: no file fits these filters of which something is "
                  "left. `undershelf list` shows what there is.");
    }
    return result_;
  }

 private:
  void add(const Row& row) {
    Tile tile;
    tile.name = printable(row.name);
    tile.format = row.format.value_or(row.type.value_or(""));
    checking::Look look = look_at(row);
    if (look.words.empty()) tile.preview = std::move(look.picture);
    std::string told = row.size ? table_size(*row.size) : "size not known";
    if (tile.preview && tile.preview->full_width > 0) {
      told = fmt::format("{}x{}, {}", tile.preview->full_width, tile.preview->full_height, told);
    }
    tile.told = fmt::format("{}, {}", told, row.rating.value_or("unrated"));
    if (!tile.preview) tile.lines = look.words.empty() ? read_in(row) : lines_of(look.words);
    result_.without += !tile.preview && tile.lines.empty();
    tiles_.push_back(std::move(tile));
    options_.progress(++result_.shown);
    if (tiles_.size() == kColumns * kLines) end_page();
  }

  checking::Look look_at(const Row& row) {
    if (row.size.value_or(0) == 0 || row.stream_id == StreamId{}) return {};
    return previewer_.look(opener_.open(row.stream_id, row.volume));
  }

  // The first lines of what reads as text, with a mark for what steers a terminal; nothing if some
  // of it is missing.
  std::vector<std::string> read_in(const Row& row) {
    constexpr uint64_t kMostBytes = 1024;
    if (row.size.value_or(0) == 0 || row.stream_id == StreamId{} || row.encrypted) return {};
    const StreamReader stream = opener_.open(row.stream_id, row.volume);
    std::vector<std::byte> bytes(std::min(stream.size(), kMostBytes));
    const bool complete =
        stream.read(0, bytes).empty() &&
        (stream.known_losses().empty() || stream.known_losses()[0].offset >= bytes.size());
    const auto text = complete ? decode_text(bytes) : std::nullopt;
    return text ? lines_of(text->utf8) : std::vector<std::string>();
  }

  void end_page() {
    const size_t page = ++result_.pages;
    options_.page(page, Canvas::png([&](Canvas& canvas) {
                    canvas.text(kEdge + kGap / 2, 12,
                                fmt::format("Page {}: files {} to {}", page,
                                            result_.shown - tiles_.size() + 1, result_.shown),
                                16, kFaint);
                    for (size_t i = 0; i < tiles_.size(); ++i) draw_tile(canvas, i, tiles_[i]);
                  }));
    tiles_.clear();
  }

  const Shelf& shelf_;
  const SheetOptions& options_;
  Spaces spaces_;
  ContentOpener opener_;
  checking::Previewer previewer_;
  std::vector<Tile> tiles_;
  SheetResult result_;
};

}  // namespace

SheetResult make_sheets(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const SheetOptions& options) {
  selection.kinds = {"file"};
  selection.links = false;
  if (selection.types.empty()) selection.types = {"picture", "video"};
  return SheetMaker(shelf, source, options).run(selection);
}

}  // namespace undershelf
