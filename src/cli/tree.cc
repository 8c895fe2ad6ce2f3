// `undershelf tree`: what was found, as a tree of folders.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <iterator>
#include <string_view>
#include <unordered_map>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "fs/fs.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

// Prints rows in path order, and the folders above them where they are not rows themselves.
class TreePrinter {
 public:
  void print(const Row& row) {
    if (!started_ || row.volume != volume_) begin_volume(row);
    const std::string_view path = row.path;
    // The part of it that is not printed above yet, and how deep that is.
    size_t shared = 0;
    size_t at = 0;
    for (size_t end; shared < open_.size() && (end = path.find('/', at)) != path.npos; ++shared) {
      if (path.substr(at, end - at) != open_[shared]) break;
      at = end + 1;
    }
    open_.resize(shared);
    for (size_t end; (end = path.find('/', at)) != path.npos; at = end + 1) {
      open_.emplace_back(path.substr(at, end - at));
      line("", "", "", open_.size(), open_.back(), true);
    }
    const std::string_view name = path.substr(at);
    line(row.state, table_rating(row.rating, row.score), row.size ? table_size(*row.size) : "",
         open_.size() + 1, name, row.is_folder());
    if (row.is_folder()) open_.emplace_back(name);
  }

  void know(const VolumeRecord& record) {
    titles_[record.id] = fmt::format(
        "volume {}, {}{}{}{}", record.id, spelled(record.volume.file_system),
        record.volume.label.empty() ? "" : ", ", printable(record.volume.label),
        record.space == SpaceId::source ? "" : fmt::format(", in file {}", record.space));
  }

 private:
  void begin_volume(const Row& row) {
    if (started_) {
      std::cout << '\n';
    } else {
      line("STATE", "RATING", "SIZE", 0, "NAME");
    }
    started_ = true;
    volume_ = row.volume;
    open_.clear();
    line("", "", "", 0, row.volume ? titles_[*row.volume] : "known by content alone");
  }

  void line(std::string_view state, std::string_view rating, std::string_view size, size_t depth,
            std::string_view name, bool is_folder = false) {
    text_.clear();
    fmt::format_to(std::back_inserter(text_), "{:<8} {:<11}  {:>10}  ", state, rating, size);
    text_.append(depth * 2, ' ');
    const size_t room = width_ - std::min(width_ - 12, text_.size());
    name_.assign(name);
    if (is_folder) name_ += '/';
    std::cout << text_ << shortened(printable(name_), room) << '\n';
  }

  const size_t width_ = output_width();
  std::string text_, name_;  // of a line
  bool started_ = false;
  std::optional<VolumeId> volume_;
  std::vector<std::string> open_;  // the folders that are printed above
  std::unordered_map<VolumeId, std::string> titles_;
};

}  // namespace

int run_tree(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  add_filters(options, Sorted::no);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  Selection selection = read_filters(line, shelf);
  selection.sort = "volume";  // whatever the filters would have stand together
  TreePrinter printer;
  for (const VolumeRecord& record : shelf.volumes(false)) printer.know(record);
  uint64_t count = 0;
  each_outline(shelf, selection, [&](const Row& row) {
    printer.print(row);
    ++count;
    return true;
  });
  if (count == 0) {
    say("Nothing in the shelf fits these filters.");
    return kDone;
  }
  tell_left_out(shelf, selection);
  next_step(fmt::format("undershelf list {}{}", quoted_path(path), filters_again(line)));
  return kDone;
}

}  // namespace undershelf::cli
