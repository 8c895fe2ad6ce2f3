// `undershelf mount`: a selection as a read-only folder.
#include "mounting/mount.h"

#include <fmt/format.h>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "cli/shelf_source.h"
#include "model/text.h"
#include "shelf/shelf.h"

namespace undershelf::cli {

int run_mount(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("fill", "missing bytes read as zeros, and not as errors")  //
      ("even-gone", "files rated gone as well");
  add_source(options);
  add_filters(options, Sorted::no);
  const CommandLine line(self, options, {"SHELF", "DIR"}, arguments);
  if (line.help_given()) return kDone;
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  MountOptions mount;
  mount.directory = line.text("DIR");
  mount.even_gone = line.has("even-gone");
  mount.fill = line.has("fill");
  mount.mounted = [&](const View::Sum& sum) {
    say(fmt::format(
        "Mounted at {}, for reading only: {}, {}. Ctrl-C or `fusermount3 -u {}` ends it.",
        printable(mount.directory), counted(sum.files, "file"), table_size(sum.bytes),
        quoted_path(mount.directory)));
  };
  mount_selection(
      shelf, [&] { return open_source_of(line, shelf, {}); }, selection, mount);
  next_step(fmt::format("undershelf export {} --to DIR{}", quoted_path(path), filters_again(line)));
  return kDone;
}

}  // namespace undershelf::cli
