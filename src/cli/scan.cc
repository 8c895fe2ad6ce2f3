// `undershelf scan`: a source's volumes into a shelf.
#include "scan/scan.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <iostream>
#include <memory>

#include "cli/command.h"
#include "cli/confined.h"
#include "cli/filters.h"
#include "cli/in_use.h"
#include "cli/output.h"
#include "cli/scan_account.h"
#include "cli/scan_lines.h"
#include "cli/scan_shelf.h"
#include "cli/shelf_source.h"
#include "content/types.h"
#include "model/shell.h"
#include "model/text.h"
#include "scan/deep.h"
#include "scan/inspect.h"
#include "scan/probe.h"
#include "shelf/totals.h"
#include "source/container.h"
#include "source/nbd.h"
#include "source/protect.h"

namespace undershelf::cli {
namespace {

std::vector<std::string> names_of_systems() {
  std::vector<std::string> names;
  for (const FileSystem& system : file_systems()) names.emplace_back(system.name);
  return names;
}

void require_supported(const CommandLine& line) {
  if (line.has("depth")) require_known("--depth", line.text("depth"), {"quick", "deep"});
  for (const char* option : {"from", "to", "only", "no-carve", "carve-unverified"}) {
    if (line.has(option) && line.text("depth") != "deep") {
      throw Error(
          Failure::usage,
          fmt::format("--{} is for a deep scan. Add --depth deep, or leave it out.", option));
    }
  }
  for (const std::string& system : line.list("only")) {
    require_known("--only", system, names_of_systems());
  }
  for (const std::string& kind : line.list("kinds")) {
    require_known("--kinds", kind, {type_names().begin(), type_names().end()});
  }
  if (line.has("check")) {
    require_known("--check", line.text("check"), {kChecks.begin(), kChecks.end()});
  }
}

// Looks the options over before anything is opened or made.
ScanOptions read_options(const CommandLine& line) {
  require_supported(line);
  ScanOptions options;
  if (line.has("code-page")) const CodePage known(line.text("code-page"));  // refuses what is none
  if (line.has("time-zone")) zone_named(line.text("time-zone"));            // likewise
  options.progress = [](const std::string& what) { show_progress(what + " ..."); };
  if (line.text("depth") == "deep") options.depth = Depth::deep;
  options.check = line.has("check")              ? check_named(line.text("check"))
                  : options.depth == Depth::deep ? Check::full
                                                 : Check::sample;
  options.check_living = line.has("check-living");
  if (options.check_living && options.check != Check::full) {
    throw Error(Failure::usage, "--check-living looks at whole files. Add --check full.");
  }
  if (line.has("kinds") && options.check != Check::full) {
    throw Error(Failure::usage, "--kinds looks at whole files. Add --check full, or --depth deep.");
  }
  options.systems = line.list("only");
  options.carve = !line.has("no-carve");
  options.carve_unverified = line.has("carve-unverified");
  options.kinds = line.list("kinds");
  return options;
}

// The part of the source that a deep scan is limited to; nothing if it is not.
std::optional<ByteRange> read_range(const CommandLine& line, uint64_t size) {
  if (!line.has("from") && !line.has("to")) return std::nullopt;
  const ByteRange part = read_part(line, "to", size);
  const uint64_t begin = part.offset / 512 * 512;
  return ByteRange{begin, part.end() - begin};
}

// A copy that is not complete yet, or a medium that was pulled out.
bool says_shrunk(const std::string& path, uint64_t skip, uint64_t size) {
  if (is_nbd(path)) return false;  // it keeps to one size, and may serve one client at a time
  uint64_t left = 0;
  try {
    left = open_source(path, skip)->size();
  } catch (const Error&) {
    // It is gone altogether.
  }
  if (left >= size) return false;
  warn(
      fmt::format("{} became shorter while it was read: of {} bytes, {} are left. What lay behind "
                  "counts as unreadable. Scan again, with --replace, when it is whole.",
                  path, size, left));
  return true;
}

// The call of a scan that goes on with this one.
std::string scan_like(const CommandLine& line, Depth depth) {
  std::string call =
      fmt::format("undershelf scan {} --shelf {}{}", quoted_path(line.text("SOURCE")),
                  quoted_path(line.text("shelf")), depth == Depth::deep ? " --depth deep" : "");
  for (const char* option :
       {"offset", "from", "to", "check", "time-zone", "code-page", "through"}) {
    if (line.has(option)) call += fmt::format(" --{} {}", option, shell_quoted(line.text(option)));
  }
  for (const std::string& system : line.list("only")) call += fmt::format(" --only {}", system);
  for (const std::string& kind : line.list("kinds")) call += fmt::format(" --kinds {}", kind);
  for (const char* flag : {"check-living", "no-carve", "carve-unverified"}) {
    if (line.has(flag)) call += fmt::format(" --{}", flag);
  }
  return call;
}

void tell_no_volume(const SourcePtr& opened, const ScanResult& result, const CommandLine& line,
                    Depth depth) {
  const Source& source = *opened;
  for (const std::string& note : result.notes) say("Note: " + note);
  const std::string other = name_of_other_system(source, {0, source.size()});
  if (!other.empty()) {
    say(fmt::format("No volume was found. This looks like {}, which is not read here.", other));
  } else if (const auto odd = line.has("offset") ? std::nullopt : odd_beginning(opened)) {
    say(fmt::format(
        "No volume was found at a multiple of 512 bytes; one seems to begin at byte {}.", *odd));
    next_step(fmt::format("{} --offset {} --replace", scan_like(line, depth), *odd));
  } else if (depth == Depth::quick) {
    say("No volume was found. A deep scan looks for what is left of volumes whose headers are "
        "gone.");
    next_step(scan_like(line, Depth::deep));
  } else if (result.carved > 0) {
    say(fmt::format("No volume was found, and nothing that is left of one. {}.",
                    found_by_content(result.carved)));
    next_step(fmt::format("undershelf list {}", quoted_path(line.text("shelf"))));
  } else {
    say("No volume was found, and nothing that is left of one. Check that this is an image of "
        "the whole medium, and that the copy is complete.");
  }
}

int conclude(const Shelf& shelf, const SourcePtr& opened, const ScanResult& result,
             const CommandLine& line, Depth depth) {
  const Source& source = *opened;
  const std::string shelf_path = line.text("shelf");
  const std::string again = scan_like(line, Depth::deep);
  if (result.stopped) {
    summarise(shelf, result);
    if (result.unchecked && !result.unsettled) {
      say("Stopped while files were looked at to their end. What was found so far is on the shelf; "
          "the same call goes on.");
    } else if (result.unsettled) {
      say("Stopped before what was found was put together: folders, ratings and former volumes may "
          "be missing. The same call goes on.");
    } else if (result.position) {
      say(fmt::format(
          "Stopped at byte {}. What was found so far is on the shelf; going on may add to "
          "former volumes, and correct them.",
          *result.position));
    } else {
      say("Stopped while volumes were read. What was found so far is on the shelf; the same call "
          "reads the rest.");
    }
    next_step(result.position || depth == Depth::deep ? again : scan_like(line, depth));
    return kIncomplete;
  }
  if (result.volumes == 0) {
    tell_gaps(source);
    tell_no_volume(opened, result, line, depth);
    return kIncomplete;
  }
  const int64_t lost = summarise(shelf, result);
  if (result.incomplete) {
    say(fmt::format("A volume could not be read to its end; `undershelf volumes {}` says why.",
                    quoted_path(shelf_path)));
  }
  if (result.left_out > 0) {
    say(fmt::format("{} pieces of metadata more than can be kept were met; they are left out.",
                    result.left_out));
  }
  const bool gaps = tell_gaps(source);
  next_step(depth == Depth::deep ? fmt::format("undershelf volumes {}", quoted_path(shelf_path))
            : lost == 0
                ? again
                : fmt::format("undershelf list {} --state deleted", quoted_path(shelf_path)));
  return result.damage > 0 || result.incomplete || result.unchecked || gaps ||
                 result.source_is_short || result.left_out > 0
             ? kIncomplete
             : kDone;
}

void require_no_container(const Source& source, const std::string& path) {
  if (const auto advice = container_advice(source, path, path)) {
    throw Error(Failure::unavailable,
                *advice +
                    " (If it is a disk all the same, overwritten with such a file, add "
                    "--as-raw.)");
  }
}

// Each further read of a failing source may cost more of it.
void advise_image(const Source& source, const std::string& path) {
  if (source.refused() == 0) return;
  say(
      fmt::format("{} of the source could not be read; each further read may cost more of it. "
                  "Copy it first, with `undershelf image {} --to IMAGE`, and scan the image.",
                  table_size(source.refused()), quoted_path(path)));
}

po::options_description known_options() {
  po::options_description options("Options");
  options.add_options()("shelf", po::value<std::string>()->value_name("FILE"),
                        "where the shelf is made")  //
      ("offset", po::value<std::string>()->value_name("N"),
       "leave out so many bytes at the start of the source")                        //
      ("mounted-anyway", "although a volume of the source is mounted for writing")  //
      ("depth", po::value<std::string>()->value_name("DEPTH"),
       "quick (the default): what the volumes' own structures still tell; deep: also what is left "
       "of others anywhere on the source")  //
      ("from", po::value<std::string>()->value_name("N"),
       "deep: begin the pass over the source at this byte; K, M, G count 1024")  //
      ("to", po::value<std::string>()->value_name("N"),
       "deep: end it before this byte")  //
      ("only", po::value<std::vector<std::string>>()->value_name("SYSTEM"),
       "deep: look only for these: fat, exfat, ntfs, hfsplus")  //
      ("check", po::value<std::string>()->value_name("LEVEL"),
       "none; sample: look at a little of each lost file (the default); full: look at all of it, "
       "to its end (the default for deep)")                            //
      ("check-living", "with --check full: look at living files too")  //
      ("kinds", po::value<std::vector<std::string>>()->value_name("TYPE"),
       "look to their end only at files of these types, and by content only for these; the others "
       "are left for later: picture, document, video, audio, archive, mail, database, other")  //
      ("no-carve", "deep: do not look for files by their content alone")                       //
      ("carve-unverified",
       "deep: keep files known by their content, too, that are not sound to their end")  //
      ("time-zone", po::value<std::string>()->value_name("ZONE"),
       "of the local times FAT keeps, such as Europe/Oslo; UTC if not given")  //
      ("code-page", po::value<std::string>()->value_name("NAME"),
       "of short names on FAT, such as ibm-850; ibm-437 if not given")  //
      ("format", po::value<std::string>()->value_name("FORMAT"),
       "of the account: table (the default) or jsonl")                                      //
      ("as-raw", "although the source looks like a container of a disk, or a packed copy")  //
      ("replace", "make the shelf anew; the old one is kept beside it");
  add_through(options);
  return options;
}

}  // namespace

int run_scan(const Command& self, const std::vector<std::string>& arguments) {
  const po::options_description options = known_options();
  const CommandLine line(self, options, {"SOURCE"}, arguments);
  if (line.help_given()) return kDone;
  Wanted wanted;
  wanted.shelf_path = line.text("shelf");
  if (wanted.shelf_path.empty()) {
    throw Error(Failure::usage, "Say where the shelf is to be made, with --shelf FILE.");
  }
  ScanOptions scan_options = read_options(line);
  wanted.source_path = line.text("SOURCE");
  wanted.skip = read_bytes(line, "offset", 0);
  refuse_through_on_source(line, wanted.source_path);
  confine_to({wanted.shelf_path, line.text("through")});
  const SourcePtr source = open_source(wanted.source_path, wanted.skip, line.text("through"));
  if (!line.has("as-raw")) require_no_container(*source, wanted.source_path);
  scan_options.range = wanted.range = read_range(line, source->size());
  wanted.depth = scan_options.depth;
  wanted.check = scan_options.check;
  wanted.check_living = scan_options.check_living;
  wanted.replace = line.has("replace");
  if (line.has("time-zone")) wanted.time_zone = line.text("time-zone");
  if (line.has("code-page")) wanted.code_page = line.text("code-page");
  refuse_in_use(wanted.source_path, line.has("mounted-anyway"));
  refuse_on_source("shelf", wanted.shelf_path, wanted.source_path);

  LockedShelf locked = open_or_create(wanted, *source);
  Shelf& shelf = locked.shelf;
  const ReadingRecord reading = shelf.reading();
  scan_options.read.code_page = reading.code_page;
  scan_options.read.zone = zone_named(reading.time_zone);
  scan_options.name_other = [&](const ByteRange& where) {
    return name_of_other_system(*source, where);
  };
  const StopOnInterrupt interrupt(2);  // to stop, and to leave what that takes
  scan_options.interrupts = &interrupt.times();
  scan_options.found = [](const FilesByType& found) { show_progress(found_line(found)); };
  scan_options.sweeping = [line = SweepLine()](const SweepProgress& progress) {
    show_progress(line(progress));
  };
  scan_options.checking = [line = CheckLine()](const checking::CheckProgress& progress) {
    show_progress(line(progress));
  };
  const ScanResult result = scan(shelf, source, scan_options);
  show_progress({});
  if (result.has_log) {
    say(
        fmt::format("Another call reads the shelf just now: {0}-wal belongs to it until that has "
                    "ended. Copy or move both, or neither.",
                    wanted.shelf_path));
  }
  advise_image(*source, wanted.source_path);
  const bool shrunk = says_shrunk(wanted.source_path, wanted.skip, source->size());
  const int code = conclude(shelf, source, result, line, scan_options.depth);
  if (read_format(line, {"table", "jsonl"}) == "jsonl") print_account(shelf, result);
  return shrunk ? kIncomplete : code;
}

}  // namespace undershelf::cli
