#include "cli/shelf_source.h"

#include "access/content.h"
#include "cli/confined.h"
#include "source/ledger.h"
#include "source/protect.h"

namespace undershelf::cli {

void add_source(po::options_description& options) {
  options.add_options()("source", po::value<std::string>()->value_name("PATH"),
                        "where the source is now");
}

void add_through(po::options_description& options) {
  options.add_options()("through", po::value<std::string>()->value_name("FILE"),
                        "read what FILE, an image of the source with its ledger, has from there, "
                        "and keep there what is read from the source: no byte of it is read twice");
}

void refuse_through_on_source(const CommandLine& line, const std::string& source_path) {
  if (!line.has("through")) return;
  refuse_on_source("image", line.text("through"), source_path);
  refuse_on_source("ledger", ledger_of(line.text("through")), source_path);
}

std::string path_of_source(const CommandLine& line, const Shelf& shelf) {
  return line.has("source") ? line.text("source") : shelf.source().path;
}

SourcePtr open_source_of(const CommandLine& line, const Shelf& shelf,
                         const std::vector<std::string>& targets) {
  const std::string through = line.has("through") ? line.text("through") : std::string();
  refuse_through_on_source(line, path_of_source(line, shelf));
  std::vector<std::string> writable = targets;
  writable.push_back(through);
  writable.push_back(line.text("SHELF"));  // SQLite's temporary files go there
  confine_to(writable);
  return open_scanned_source(shelf, line.text("source"), through);
}

}  // namespace undershelf::cli
