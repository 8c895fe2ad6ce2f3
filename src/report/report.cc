#include "report/report.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include "exporting/target.h"
#include "model/error.h"
#include "report/figures.h"
#include "report/page.h"
#include "report/sheet.h"
#include "shelf/line.h"
#include "shelf/totals.h"
#include "source/files.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr uint64_t kMostOnPage = 2000;  // files that the page lists
constexpr uint64_t kOnSheet = 24;       // files on its contact sheet

constexpr size_t kHeld = 1 << 20;  // bytes of a file that wait to be written

constexpr std::string_view kPage = "report.html";  // written last
constexpr std::string_view kBeside[] = {
    "files.csv",   "map.csv",       "map.png",       "map.svg",       "outlook.csv", "outlook.png",
    "outlook.svg", "time-line.csv", "time-line.png", "time-line.svg", "volumes.csv", "sheet.png"};

// Empty, or what a report that was killed left.
bool is_usable(const fs::path& directory) {
  std::error_code error;
  if (!fs::is_directory(directory, error)) return false;
  for (const auto& entry : fs::directory_iterator(directory, error)) {
    const std::string name = entry.path().filename().string();
    if (std::ranges::find(kBeside, name) == std::end(kBeside)) return false;
    if (entry.symlink_status(error).type() != fs::file_type::regular) return false;
  }
  return !error;
}

void make_folder(const std::string& directory) {
  require_writable_parent(directory);
  std::error_code error;
  if (fs::exists(fs::symlink_status(directory, error)) && !is_usable(directory)) {
    throw Error(
        Failure::refused,
        fmt::format("{} is not an empty folder. Nothing is overwritten: choose a new folder.",
                    directory));
  }
  fs::create_directory(directory, error);
  if (error) {
    throw Error(Failure::refused, fmt::format("{} cannot be made: {}. Choose another folder.",
                                              directory, error.message()));
  }
}

// A file of the report, new in its folder.
class Output {
 public:
  Output(const std::string& directory, const std::string& name)
      : path_((fs::path(directory) / name).string()),
        file_(open_to_write(AT_FDCWD, path_, Place::own)) {
    check(file_.ok() && ::ftruncate(file_.get(), 0) == 0);
  }
  void write(std::string_view text) {
    held_ += text;
    if (held_.size() >= kHeld) flush();
  }
  void close() {
    flush();
    check(::fsync(file_.get()) == 0);
  }

 private:
  void flush() {
    check(write_all(file_.get(), held_.data(), held_.size()));
    held_.clear();
  }
  void check(bool is_fine) const {
    if (is_fine) return;
    throw Error(Failure::incomplete,
                fmt::format("The report could not be completed: writing {} failed: {}.", path_,
                            std::strerror(errno)));
  }
  std::string path_;
  Descriptor file_;
  std::string held_;  // not written yet
};

// Rows of one file, with the names of their fields in front.
class Csv {
 public:
  Csv(const std::string& directory, const std::string& name) : file_(directory, name) {}
  template <typename Add>
  void header(Add add) {
    Line names(Line::Form::csv_header);
    names.begin();
    add(names);
    file_.write(names.end());
  }
  template <typename Add>
  void row(Add add) {
    line_.begin();
    add(line_);
    file_.write(line_.end());
  }
  void close() { file_.close(); }

 private:
  Output file_;
  Line line_{Line::Form::csv};
};

void write_map(const std::string& directory, const SourceMap& map) {
  Csv csv(directory, "map.csv");
  const auto fields = [&](Line& line, size_t cell) {
    line.count("offset", cell * map.cell_bytes);
    for (size_t i = 0; i < kGrounds; ++i) {
      line.count(word_of(static_cast<Ground>(i)), map.cells.empty() ? 0 : map.cells[cell][i]);
    }
  };
  csv.header([&](Line& line) { fields(line, 0); });
  for (size_t cell = 0; cell < map.cells.size(); ++cell) {
    csv.row([&](Line& line) { fields(line, cell); });
  }
  csv.close();
}

void write_outlook(const std::string& directory, const std::vector<Group>& groups) {
  Csv csv(directory, "outlook.csv");
  csv.header([](Line& line) { add_fields(line, "type", Group{}); });
  for (const Group& group : groups) csv.row([&](Line& line) { add_fields(line, "type", group); });
  csv.close();
}

void write_time_line(const std::string& directory, const ReportFacts& facts) {
  Csv csv(directory, "time-line.csv");
  const auto fields = [](Line& line, const std::string& name, const Period& period) {
    line.text("period", name);
    line.count("living", period.living);
    line.count("lost", period.lost);
    line.count("deleted", period.deleted);
  };
  csv.header([&](Line& line) { fields(line, "", {}); });
  for (const auto& one : facts.time_line) {
    csv.row([&](Line& line) { fields(line, one.first, one.second); });
  }
  csv.close();
}

void write_volumes(const std::string& directory, const std::vector<VolumeRecord>& volumes) {
  Csv csv(directory, "volumes.csv");
  const auto fields = [](Line& line, const VolumeRecord& record) {
    line.number("id", number_of(record.id));
    line.text("file_system", record.volume.file_system);
    line.text("standing", record.volume.standing);
    line.text("label", record.volume.label);
    line.text("serial", record.volume.serial);
    line.count("offset", record.volume.offset);
    line.count("length", record.volume.length);
    line.number("confidence", record.volume.confidence);
    line.number("live", record.live);
    line.number("deleted", record.deleted);
    line.number("former", record.former);
  };
  csv.header([&](Line& line) { fields(line, {}); });
  for (const VolumeRecord& record : volumes) csv.row([&](Line& line) { fields(line, record); });
  csv.close();
}

void write_file(const std::string& directory, const std::string& name, std::string_view content) {
  Output file(directory, name);
  file.write(content);
  file.close();
}

// As PNG and SVG; returns the latter.
std::string write_figure(const std::string& directory, const std::string& name,
                         const ReportFacts& facts, void (*draw)(Canvas&, const ReportFacts&)) {
  const auto with_facts = [&](Canvas& canvas) { draw(canvas, facts); };
  write_file(directory, name + ".png", Canvas::png(with_facts));
  std::string svg = Canvas::svg(with_facts);
  write_file(directory, name + ".svg", svg);
  return svg;
}

// One page of lost pictures and videos of which something is left, if there are any.
std::string draw_sheet(const Shelf& shelf, Selection selection, const SourcePtr& source) {
  if (!source) return {};
  if (selection.types.empty()) selection.types = {"picture", "video"};
  if (selection.states.empty()) selection.states = {"deleted", "former", "carved"};
  std::erase(selection.states, "live");
  std::erase_if(selection.types,
                [](const std::string& type) { return type != "picture" && type != "video"; });
  if (selection.types.empty() || selection.states.empty()) return {};
  if (selection.ratings.empty()) selection.ratings = {"whole", "likely", "partial"};
  selection.limit = kOnSheet;
  std::string png;
  SheetOptions sheet;
  sheet.page = [&](size_t page, const std::string& drawn) {
    if (page == 1) png = drawn;
  };
  try {
    make_sheets(shelf, source, selection, sheet);
  } catch (const Error& e) {
    if (e.failure() != Failure::incomplete) throw;  // there are none
  }
  return png;
}

// Room for figures and the page, and for a line of each file.
void require_room(const std::string& directory, uint64_t rows) {
  constexpr uint64_t kFigures = 4 << 20;
  constexpr uint64_t kLine = 768;
  const Target target = examine_target(directory);
  const uint64_t wanted = kFigures + rows * kLine;
  if (wanted <= target.free_bytes) return;
  throw Error(Failure::refused,
              fmt::format("The report needs up to {:.1f} MiB, and {} has {:.1f} MiB free. Choose "
                          "another folder.",
                          static_cast<double>(wanted) / (1 << 20), target.where,
                          static_cast<double>(target.free_bytes) / (1 << 20)));
}

// What a report writes into its folder, and the folder if it was made for it, unless it is kept.
class Unfinished {
 public:
  Unfinished(std::string directory, bool is_made)
      : directory_(std::move(directory)), is_made_(is_made) {}
  ~Unfinished() {
    if (is_kept_) return;
    std::error_code error;
    for (const std::string_view name : kBeside) fs::remove(fs::path(directory_) / name, error);
    fs::remove(fs::path(directory_) / kPage, error);
    if (is_made_) fs::remove(directory_, error);
  }
  Unfinished(const Unfinished&) = delete;
  Unfinished& operator=(const Unfinished&) = delete;
  void keep() { is_kept_ = true; }

 private:
  const std::string directory_;
  const bool is_made_;
  bool is_kept_ = false;
};

}  // namespace

ReportFacts write_report(const Shelf& shelf, const Selection& selection,
                         const ReportOptions& options) {
  const Totals there = total_rows(shelf, selection);
  if (there.files + there.streams == 0) {
    throw Error(Failure::incomplete,
                "There is nothing to report: no file fits these filters. `undershelf list` shows "
                "what there is.");
  }
  require_writable_parent(options.directory);
  require_room(options.directory, there.files + there.streams + there.folders);
  const bool is_made = !fs::exists(options.directory);
  make_folder(options.directory);
  Unfinished unfinished(options.directory, is_made);
  Csv files(options.directory, "files.csv");
  files.header([](Line& line) { add_fields(line, Row{}); });
  std::string rows;
  uint64_t listed = 0;
  ReportFacts facts = gather_facts(shelf, selection, options.zone, [&](const Row& row) {
    files.row([&](Line& line) { add_fields(line, row); });
    if (++listed <= kMostOnPage) rows += page_row(row, options.zone);
  });
  files.close();
  if (listed > kMostOnPage) rows.clear();
  facts.header = options.header;
  facts.described = options.described;
  facts.zone = options.zone_name;
  write_map(options.directory, facts.map);
  write_outlook(options.directory, facts.lost_types);
  write_time_line(options.directory, facts);
  write_volumes(options.directory, facts.volumes);
  PageFigures figures = {write_figure(options.directory, "outlook", facts, draw_outlook),
                         write_figure(options.directory, "map", facts, draw_map),
                         write_figure(options.directory, "time-line", facts, draw_time_line),
                         draw_sheet(shelf, selection, options.source)};
  if (!figures.sheet.empty()) write_file(options.directory, "sheet.png", figures.sheet);
  write_file(options.directory, std::string(kPage), page_of(facts, figures, rows));
  unfinished.keep();
  return facts;
}

}  // namespace undershelf
