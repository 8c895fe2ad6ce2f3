// `undershelf export`: what was selected, into a bag.
#include <fmt/format.h>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "exporting/bag.h"
#include "exporting/content.h"
#include "exporting/protect.h"

namespace undershelf::cli {

int run_export(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("to", po::value<std::string>()->value_name("DIR"),
                        "a new or empty folder, which becomes the bag")               //
      ("resume", "go on with an export that was interrupted; what is right is kept")  //
      ("read-back", "read each file from the target again, and compare")              //
      ("even-gone", "files rated gone as well")                                       //
      ("forks", po::value<std::string>()->value_name("HOW"),
       "resource forks as AppleDouble files (double, the default); like other streams, as files of "
       "their own (plain); no secondary streams at all (skip)")               //
      ("original-paths", "files in trash folders where those say they were")  //
      ("source", po::value<std::string>()->value_name("PATH"), "where the source is now");
  add_filters(options);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  ExportOptions to;
  to.directory = line.text("to");
  if (to.directory.empty()) {
    throw Error(Failure::usage, "Say where the files are to go, with --to DIR.");
  }
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  const SourcePtr source = open_scanned_source(shelf, line.text("source"));
  refuse_on_source("target", to.directory,
                   line.has("source") ? line.text("source") : shelf.source().path);
  to.even_gone = line.has("even-gone");
  if (line.has("forks")) {
    require_known("--forks", line.text("forks"), {"double", "plain", "skip"});
    to.forks = line.text("forks") == "skip"    ? Forks::skip
               : line.text("forks") == "plain" ? Forks::plain
                                               : Forks::in_double;
  }
  to.original_paths = line.has("original-paths");
  to.resume = line.has("resume");
  to.read_back = line.has("read-back");
  const StopOnInterrupt interrupt;
  to.stop = &interrupt.flag();
  to.progress = [](uint64_t done, uint64_t total) {
    show_progress(fmt::format("{} of {} ({} %)", table_size(done), table_size(total),
                              total == 0 ? 100 : done * 100 / total));
  };
  const ExportResult result = export_bag(shelf, source, selection, to);
  show_progress({});

  for (const std::string& failure : result.failed) warn(failure);
  if (result.stopped) warn("Stopped. What was done is kept and listed.");
  std::string closing =
      fmt::format("{} file{}, {}, in {}.", result.files, result.files == 1 ? "" : "s",
                  table_size(result.bytes), to.directory);
  if (result.kept > 0) {
    closing += fmt::format(" {} of them were there already, and right.", result.kept);
  }
  if (result.with_holes > 0) {
    closing += fmt::format(" {} of them lack{} bytes; exported.jsonl lists which.",
                           result.with_holes, result.with_holes == 1 ? "s" : "");
  }
  if (result.renamed > 0) {
    closing += fmt::format(" {} had to be given other names.", result.renamed);
  }
  if (result.gone_left_out > 0) {
    closing +=
        fmt::format(" {} rated gone were left out (--even-gone takes them).", result.gone_left_out);
  }
  say(closing);
  next_step(fmt::format("cd {} && sha256sum -c manifest-sha256.txt", shell_quoted(to.directory)));
  const bool complete = result.failed.empty() && !result.stopped && result.with_holes == 0;
  return complete ? kDone : kIncomplete;
}

}  // namespace undershelf::cli
