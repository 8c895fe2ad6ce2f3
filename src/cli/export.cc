// `undershelf export`: what was selected, into a bag.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <iostream>

#include "access/content.h"
#include "cli/bytes_line.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "cli/shelf_source.h"
#include "exporting/bag.h"
#include "exporting/target.h"
#include "model/text.h"
#include "source/protect.h"

namespace undershelf::cli {
namespace {

po::options_description export_options() {
  po::options_description options("Options");
  options.add_options()("to", po::value<std::string>()->value_name("DIR|ARCHIVE"),
                        "a new or empty folder, which becomes the bag; a new file whose name ends "
                        "in .tar, .tar.zst, .zip or .iso, which holds it; or - for a tar stream to "
                        "standard output")  //
      ("layout", po::value<std::string>()->value_name("HOW"),
       "folders as they were (tree, the default), a folder for each type of file (type), or all "
       "files in one (flat)")  //
      ("format", po::value<std::string>()->value_name("FORMAT"),
       "of the account: table (the default) or jsonl")                                //
      ("resume", "go on with an export that was interrupted; what is right is kept")  //
      ("read-back", "read each file from the target again, and compare")              //
      ("dry-run", "only say what would be written, renamed or refused")               //
      ("unique",
       "equal files once; the others become links to it, or copies where the target has none")  //
      ("even-gone", "files rated gone as well")                                                 //
      ("forks", po::value<std::string>()->value_name("HOW"),
       "resource forks as AppleDouble files (double, the default); like other streams, as files of "
       "their own (plain); no secondary streams at all (skip)")  //
      ("original-paths", "files in trash folders where those say they were");
  add_source(options);
  add_through(options);
  add_filters(options);
  return options;
}

bool is_stream(const CommandLine& line) { return line.text("to") == "-"; }

// All that says what is exported and how, ready to be given again.
std::string selection_again(const CommandLine& line) {
  static const std::vector<std::string> kTold = {"layout",         "even-gone", "unique", "forks",
                                                 "original-paths", "limit",     "sort"};
  return filters_again(line) + line.again(kTold);
}

void require_fit_for_archive(const CommandLine& line) {
  for (const char* option : {"resume", "read-back"}) {
    if (!line.has(option)) continue;
    throw Error(Failure::usage, fmt::format("--{} goes with a folder, not with an archive: leave "
                                            "it out, or export to a folder.",
                                            option));
  }
  if (!is_stream(line)) return;
  if (line.text("format") == "jsonl") {
    throw Error(Failure::usage,
                "Standard output takes the archive: leave --format jsonl out; the account is on "
                "standard error.");
  }
  if (::isatty(STDOUT_FILENO) != 0) {
    throw Error(Failure::usage,
                "An archive does not go to a terminal: lead it into a file or another program, as "
                "in `undershelf export SHELF --to - | tar -x -C DIR`.");
  }
}

ExportOptions read_options(const CommandLine& line) {
  ExportOptions to;
  to.to = line.text("to");
  if (to.to.empty()) {
    throw Error(
        Failure::usage,
        "Say where the files are to go, with --to DIR, or --to and the name of an archive.");
  }
  to.archive = archive_form_of(to.to);
  to.described = printable(selection_again(line));
  if (to.described.starts_with(' ')) to.described.erase(0, 1);
  to.even_gone = line.has("even-gone");
  to.unique = line.has("unique");
  to.dry_run = line.has("dry-run");
  if (to.dry_run && line.has("resume")) {
    throw Error(Failure::usage, "--dry-run tells of a new export; leave --resume out.");
  }
  if (to.archive) require_fit_for_archive(line);
  if (line.has("layout")) {
    require_known("--layout", line.text("layout"), {"tree", "type", "flat"});
    to.layout = line.text("layout") == "type"   ? FolderLayout::type
                : line.text("layout") == "flat" ? FolderLayout::flat
                                                : FolderLayout::tree;
  }
  if (line.has("forks")) {
    require_known("--forks", line.text("forks"), {"double", "plain", "skip"});
    to.forks = line.text("forks") == "skip"    ? Forks::skip
               : line.text("forks") == "plain" ? Forks::plain
                                               : Forks::in_double;
  }
  to.original_paths = line.has("original-paths");
  to.resume = line.has("resume");
  to.read_back = line.has("read-back");
  return to;
}

// What a dry run found besides the sums.
void say_plan(const ExportResult& result) {
  constexpr size_t kMost = 12;
  for (size_t i = 0; i < std::min(kMost, result.renames.size()); ++i) {
    say(fmt::format("  renamed: {}", printable(result.renames[i])));
  }
  if (result.renames.size() > kMost) {
    say(fmt::format("  and {} more", result.renames.size() - kMost));
  }
  const std::string room = result.free == UINT64_MAX
                               ? fmt::format("The stream has up to {}", table_size(result.room))
                               : fmt::format("The target needs up to {} and has {} free",
                                             table_size(result.room), table_size(result.free));
  say(fmt::format("{}. Nothing was written.", room));
}

void say_account(const ExportResult& result, const std::string& from, const std::string& to,
                 bool dry_run) {
  say(fmt::format("From {} to {}{}:", from, to, dry_run ? ", as the shelf has it" : ""));
  const auto part = [](const char* what, const FileSum& sum) {
    say(fmt::format("  {:<22} {:>7}  {:>10}", what, sum.files, table_size(sum.bytes)));
  };
  part("selected", result.selected);
  part("written in full", result.full);
  if (result.with_gaps.files > 0) part("written with gaps", result.with_gaps);
  if (result.changed.files > 0) part("written, but changed", result.changed);
  if (result.gone.files > 0) part("left out: gone", result.gone);
  if (result.too_large.files > 0) part("left out: too large", result.too_large);
  if (result.failed.files > 0) part("left out: failed", result.failed);
  if (result.not_reached.files > 0) part("left out: not reached", result.not_reached);
  if (result.kept > 0) {
    say(fmt::format("{} of those written {} there already, and right.", result.kept,
                    result.kept == 1 ? "was" : "were"));
  }
  if (dry_run) return say_plan(result);
  if (result.changed.files > 0) {
    say("What is changed is not what the scan read: the source gives other bytes now. Scan it "
        "again, into a new shelf, before anything of it is handed over.");
  }
  if (result.with_gaps.files > 0) say("Which bytes are missing, exported.jsonl lists.");
  if (result.renamed > 0) {
    say(fmt::format("{} had to be given other names; exported.jsonl has the true ones.",
                    counted(result.renamed, "file")));
  }
  if (result.gone.files > 0) {
    say("--even-gone writes gone files too: zeros for what is overwritten, else what is there "
        "now.");
  }
}

void print_account(const ExportResult& result, const std::string& from, const std::string& to,
                   bool dry_run) {
  Line line(Line::Form::json);
  line.begin();
  line.text("from", from);
  line.text("to", to);
  const auto part = [&](const std::string& name, const FileSum& sum) {
    line.count(name, sum.files);
    line.count(name + "_bytes", sum.bytes);
  };
  part("selected", result.selected);
  part("written_in_full", result.full);
  part("written_with_gaps", result.with_gaps);
  part("written_changed", result.changed);
  part("left_out_gone", result.gone);
  part("left_out_too_large", result.too_large);
  part("left_out_failed", result.failed);
  part("left_out_not_reached", result.not_reached);
  line.count("kept", result.kept);
  line.count("renamed", result.renamed);
  line.boolean("stopped", result.stopped);
  line.boolean("dry_run", dry_run);
  line.count("room", result.room);
  line.count("free", result.free);
  line.list("renames", result.renames);
  line.list("failures", result.failures);
  std::cout << line.end();
}

}  // namespace

int run_export(const Command& self, const std::vector<std::string>& arguments) {
  const CommandLine line(self, export_options(), {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  ExportOptions to = read_options(line);
  const std::string format = read_format(line, {"table", "jsonl"});
  const std::string path = line.text("SHELF");
  to.shelf_path = path;
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  const std::string source_path = path_of_source(line, shelf);
  if (is_stream(line)) {
    refuse_on_source("temporary folder", temporary_folder(), source_path);
  } else {
    refuse_on_source("target", to.to, source_path);
    if (!to.archive) require_writable_parent(to.to);
  }
  const SourcePtr source =
      open_source_of(line, shelf, {is_stream(line) ? temporary_folder() : to.to});
  const StopOnInterrupt interrupt(1);
  to.interrupts = &interrupt.times();
  to.progress = [shown = BytesLine()](uint64_t done, uint64_t total) {
    show_progress(shown(done, total));
  };
  const ExportResult result = export_bag(shelf, source, selection, to);
  show_progress({});

  for (const std::string& failure : result.failures) warn(failure);
  if (format == "jsonl") {
    print_account(result, source_path, to.to, to.dry_run);
  } else {
    say_account(result, source_path, is_stream(line) ? "standard output" : to.to, to.dry_run);
  }
  if (to.dry_run) {
    next_step(fmt::format("undershelf export {} --to {}{}", quoted_path(path), quoted_path(to.to),
                          selection_again(line)));
    return result.failures.empty() && result.with_gaps.files == 0 ? kDone : kIncomplete;
  }
  if (result.stopped && to.archive) {
    warn("Stopped. The archive holds what was done until then, and lists it.");
    return kIncomplete;
  }
  if (result.stopped) {
    warn("Stopped. What was done is kept and listed.");
    next_step(fmt::format("undershelf export {} --to {} --resume{}", quoted_path(path),
                          quoted_path(to.to), selection_again(line)));
    return kIncomplete;
  }
  if (!to.archive) {
    next_step(
        fmt::format("undershelf verify {} --shelf {}", quoted_path(to.to), quoted_path(path)));
  }
  const bool complete = result.failures.empty() && result.failed.files == 0 &&
                        result.not_reached.files == 0 && result.with_gaps.files == 0 &&
                        result.changed.files == 0;
  return complete ? kDone : kIncomplete;
}

}  // namespace undershelf::cli
