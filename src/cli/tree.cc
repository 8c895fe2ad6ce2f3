// `undershelf tree`: what was found, as a tree of folders.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>
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
    const std::vector<std::string> parts = split(row.path);
    size_t shared = 0;
    while (shared < open_.size() && shared + 1 < parts.size() && open_[shared] == parts[shared]) {
      ++shared;
    }
    open_.resize(shared);
    for (; shared + 1 < parts.size(); ++shared) {
      line("", "", "", shared + 1, parts[shared] + "/");
      open_.push_back(parts[shared]);
    }
    line(row.state, table_rating(row.rating, row.score), row.size ? table_size(*row.size) : "",
         shared + 1, parts.back() + (row.is_folder() ? "/" : ""));
    if (row.is_folder()) open_.push_back(parts.back());
  }

  void know(const VolumeRecord& record) {
    titles_[record.id] = fmt::format(
        "volume {}, {}{}{}{}", record.id, spelled(record.volume.file_system),
        record.volume.label.empty() ? "" : ", ", printable(record.volume.label),
        record.space == SpaceId::source ? "" : fmt::format(", in file {}", record.space));
  }

 private:
  static std::vector<std::string> split(const std::string& path) {
    std::vector<std::string> parts;
    for (size_t at = 0; at <= path.size();) {
      const size_t end = std::min(path.find('/', at), path.size());
      parts.push_back(path.substr(at, end - at));
      at = end + 1;
    }
    return parts;
  }

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

  static void line(const std::string& state, const std::string& rating, const std::string& size,
                   size_t depth, const std::string& name) {
    const std::string left =
        fmt::format("{:<8} {:<11}  {:>10}  {}", state, rating, size, std::string(depth * 2, ' '));
    const size_t room = output_width() - std::min(output_width() - 12, left.size());
    std::cout << left << shortened(printable(name), room) << '\n';
  }

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
  each_row(shelf, selection, [&](const Row& row) {
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
