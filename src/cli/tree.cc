// `undershelf tree`: what was found, as a tree of folders.
#include <fmt/format.h>

#include <iostream>
#include <unordered_map>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
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
      line("", "", "", "", shared + 1, parts[shared] + "/");
      open_.push_back(parts[shared]);
    }
    const bool folder = row.kind == "folder" && !row.stream;
    line(row.state, row.rating.value_or(""), row.score ? fmt::format("{}", *row.score) : "",
         row.size_known() ? table_size(*row.size) : "", shared + 1,
         parts.back() + (folder ? "/" : ""));
    if (folder) open_.push_back(parts.back());
  }

  void know(const VolumeRecord& record) {
    titles_[record.id] =
        fmt::format("volume {}, {}{}{}", record.id, record.volume.file_system,
                    record.volume.label.empty() ? "" : ", ", printable(record.volume.label));
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
      line("STATE", "RATING", "SCORE", "SIZE", 0, "NAME");
    }
    started_ = true;
    volume_ = row.volume;
    open_.clear();
    line("", "", "", "", 0, row.volume ? titles_[*row.volume] : "[carved]");
  }

  static void line(const std::string& state, const std::string& rating, const std::string& score,
                   const std::string& size, size_t depth, const std::string& name) {
    std::cout << fmt::format("{:<8} {:<7} {:>5}  {:>10}  {}{}\n", state, rating, score, size,
                             std::string(depth * 2, ' '), printable(name));
  }

  bool started_ = false;
  std::optional<int64_t> volume_;
  std::vector<std::string> open_;  // the folders that are printed above
  std::unordered_map<int64_t, std::string> titles_;
};

}  // namespace

int run_tree(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  add_filters(options);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  Selection selection = read_filters(line, shelf);
  selection.with_contents = true;
  if (!selection.sort.empty()) {
    throw Error(Failure::usage, "A tree has its own order: leave --sort out, or use `list`.");
  }
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
  } else {
    next_step(fmt::format("undershelf list {} --rating likely", shell_quoted(path)));
  }
  return kDone;
}

}  // namespace undershelf::cli
