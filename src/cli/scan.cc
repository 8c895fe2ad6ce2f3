// `undershelf scan`: a source's volumes into a shelf.
#include "scan/scan.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/in_use.h"
#include "cli/output.h"
#include "exporting/protect.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

// A new shelf, or the unfinished one of the same source.
Shelf open_or_create(const std::string& path, const std::string& source_path, const Source& source,
                     uint64_t skip, bool replace, Depth depth) {
  if (!std::filesystem::exists(path))
    return Shelf::create(path, identify(source_path, source, skip));
  if (!Shelf::is_shelf(path)) {
    throw Error(Failure::refused,
                fmt::format("{} exists and is not a shelf. Nothing is overwritten: choose another "
                            "name.",
                            path));
  }
  if (replace) {
    for (const char* suffix : {"", "-wal", "-shm"}) std::filesystem::remove(path + suffix);
    return Shelf::create(path, identify(source_path, source, skip));
  }
  Shelf shelf = Shelf::open_to_write(path);
  if (const std::string how = difference(shelf.source(), source); !how.empty()) {
    throw Error(Failure::refused,
                fmt::format("The shelf {} describes another source: {}. Choose another name, or "
                            "--replace it.",
                            path, how));
  }
  const std::vector<ScanRecord> scans = shelf.scans();
  const auto is_finished = [&](std::string_view wanted) {
    return std::ranges::any_of(scans, [&](const ScanRecord& scan) {
      return scan.state == "finished" && scan.depth == wanted;
    });
  };
  if (is_finished("deep") || (is_finished("quick") && depth == Depth::quick)) {
    throw Error(Failure::refused,
                fmt::format("The shelf {} holds a finished scan of this source. List it with "
                            "`undershelf list {}`, or scan again with --replace.",
                            path, shell_quoted(path)));
  }
  say(is_finished("quick") ? "Adding to what the quick scan found."
                           : "Continuing an unfinished scan.");
  return shelf;
}

void require_supported(const CommandLine& line) {
  if (line.has("depth")) require_known("--depth", line.text("depth"), {"quick", "deep"});
  for (const char* option : {"from", "to", "only"}) {
    if (line.has(option) && line.text("depth") != "deep") {
      throw Error(
          Failure::usage,
          fmt::format("--{} limits a deep scan. Add --depth deep, or leave it out.", option));
    }
  }
  for (const std::string& system : line.list("only")) {
    require_known("--only", system, {"fat", "exfat", "ntfs", "hfsplus"});
  }
  if (line.has("check")) {
    require_known("--check", line.text("check"), {"none", "sample", "full"});
    if (line.text("check") == "full") {
      throw Error(Failure::usage,
                  "This version checks samples only; it cannot check whole files yet. Use --check "
                  "sample.");
    }
  }
}

// Looks the options over before anything is opened or made.
ScanOptions read_options(const CommandLine& line) {
  require_supported(line);
  ScanOptions options;
  if (line.text("check") == "none") options.check = Check::none;
  if (line.has("code-page")) options.read.code_page = line.text("code-page");
  const CodePage known(options.read.code_page);  // refuses one that there is not
  options.read.zone = read_zone(line);
  options.progress = [](const std::string& what) { show_progress(what + " ..."); };
  if (line.text("depth") == "deep") options.depth = Depth::deep;
  options.systems = line.list("only");
  return options;
}

// The part of the source that a deep scan is limited to; nothing if it is not.
std::optional<ByteRange> read_range(const CommandLine& line, uint64_t size) {
  if (!line.has("from") && !line.has("to")) return std::nullopt;
  const uint64_t from = read_bytes(line, "from", 0);
  const uint64_t to = std::min(read_bytes(line, "to", size), size);
  if (from >= to) {
    throw Error(Failure::usage,
                fmt::format("--from and --to leave nothing of the source's {} bytes. Give a --from "
                            "below --to.",
                            size));
  }
  return ByteRange{from / 512 * 512, to - from / 512 * 512};
}

std::string duration(double seconds) {
  const auto whole = static_cast<uint64_t>(seconds + 0.5);
  if (whole < 60) return fmt::format("{} s", whole);
  if (whole < 3600) return fmt::format("{} min", (whole + 30) / 60);
  return fmt::format("{} h {:02} min", whole / 3600, whole % 3600 / 60);
}

// The line that is shown while a sweep goes on.
class SweepLine {
 public:
  std::string operator()(const SweepProgress& progress) const {
    const std::chrono::duration<double> passed = std::chrono::steady_clock::now() - started_;
    const uint64_t done = progress.position - progress.range.offset;
    const uint64_t left = progress.range.length - std::min(done, progress.range.length);
    std::string text =
        fmt::format("Sweeping: {:.1f} % done",
                    100.0 * static_cast<double>(done) /
                        static_cast<double>(std::max<uint64_t>(1, progress.range.length)));
    const double rate =
        static_cast<double>(progress.position - progress.begun_at) / std::max(passed.count(), 1e-3);
    if (passed.count() > 0.5 && rate > 0) {
      text += fmt::format(", {}/s, {} left", table_size(static_cast<uint64_t>(rate)),
                          duration(static_cast<double>(left) / rate));
    }
    text += ". Pieces found:";
    for (const auto& [system, count] : progress.found) {
      text += fmt::format("{} {} {}", &system == &progress.found.front().first ? "" : ",", system,
                          count);
    }
    return text;
  }

 private:
  std::chrono::steady_clock::time_point started_ = std::chrono::steady_clock::now();
};

// A copy that is not complete yet, or a medium that was pulled out.
bool says_shrunk(const std::string& path, uint64_t skip, uint64_t size) {
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

// Says what there is now; returns how many files are deleted or former ones.
int64_t summarise(const Shelf& shelf, const ScanResult& result) {
  int64_t live = 0;
  int64_t deleted = 0;
  int64_t former = 0;
  for (const VolumeRecord& record : shelf.volumes()) {
    live += record.live;
    deleted += record.deleted;
    former += record.former;
  }
  const std::string of_former =
      former > 0 ? fmt::format(", {} files of former volumes", former) : "";
  say(fmt::format("{} volume{}: {} living and {} deleted files{}.", result.volumes,
                  result.volumes == 1 ? "" : "s", live, deleted, of_former));
  if (result.source_is_short) say("The source ends before a volume on it does.");
  if (result.damage > 0) {
    say(fmt::format("Damage was met in {} place{}; `undershelf volumes` counts it.", result.damage,
                    result.damage == 1 ? "" : "s"));
  }
  return deleted + former;
}

// The call of a deep scan that goes on with this one.
std::string deep_scan_like(const CommandLine& line) {
  std::string call =
      fmt::format("undershelf scan {} --shelf {} --depth deep", shell_quoted(line.text("SOURCE")),
                  shell_quoted(line.text("shelf")));
  for (const char* option : {"offset", "from", "to", "check", "time-zone", "code-page"}) {
    if (line.has(option)) call += fmt::format(" --{} {}", option, shell_quoted(line.text(option)));
  }
  for (const std::string& system : line.list("only")) call += fmt::format(" --only {}", system);
  return call;
}

int conclude(const Shelf& shelf, const ScanResult& result, const CommandLine& line, Depth depth) {
  const std::string shelf_path = line.text("shelf");
  const std::string again = deep_scan_like(line);
  if (result.stopped) {
    summarise(shelf, result);
    say(fmt::format(
        "Stopped at byte {}. What was found so far is on the shelf; going on may add to "
        "former volumes, and correct them.",
        result.position));
    next_step(again);
    return kIncomplete;
  }
  if (result.volumes == 0 && depth == Depth::quick) {
    say("No volume was found. A deep scan looks for what is left of volumes whose headers are "
        "gone.");
    next_step(again);
    return kIncomplete;
  }
  if (result.volumes == 0) {
    say("No volume was found, and nothing that is left of one.");
    next_step(fmt::format("undershelf survey {}", shell_quoted(line.text("SOURCE"))));
    return kIncomplete;
  }
  const int64_t lost = summarise(shelf, result);
  if (result.left_out > 0) {
    say(fmt::format("{} pieces of metadata more than can be kept were met; they are left out.",
                    result.left_out));
  }
  next_step(depth == Depth::deep ? fmt::format("undershelf volumes {}", shell_quoted(shelf_path))
            : lost == 0
                ? again
                : fmt::format("undershelf list {} --state deleted", shell_quoted(shelf_path)));
  return result.damage > 0 || result.source_is_short || result.left_out > 0 ? kIncomplete : kDone;
}

}  // namespace

int run_scan(const Command& self, const std::vector<std::string>& arguments) {
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
       "sample (the default): look at a little of each lost file; none")  //
      ("time-zone", po::value<std::string>()->value_name("ZONE"),
       "of the local times FAT keeps, such as Europe/Oslo; UTC if not given")  //
      ("code-page", po::value<std::string>()->value_name("NAME"),
       "of short names on FAT, such as ibm-850; ibm-437 if not given")  //
      ("replace", "make a finished shelf anew");
  const CommandLine line(self, options, {"SOURCE"}, arguments);
  if (line.help_given()) return kDone;
  const std::string shelf_path = line.text("shelf");
  if (shelf_path.empty()) {
    throw Error(Failure::usage, "Say where the shelf is to be made, with --shelf FILE.");
  }
  ScanOptions scan_options = read_options(line);
  const std::string source_path = line.text("SOURCE");
  const uint64_t skip = read_bytes(line, "offset", 0);
  const SourcePtr source = open_source(source_path, skip);
  scan_options.range = read_range(line, source->size());
  refuse_in_use(source_path, line.has("mounted-anyway"));
  refuse_on_source("shelf", shelf_path, source_path);

  Shelf shelf = open_or_create(shelf_path, source_path, *source, skip, line.has("replace"),
                               scan_options.depth);
  const StopOnInterrupt interrupt;
  scan_options.stop = &interrupt.flag();
  scan_options.sweeping = [line = SweepLine()](const SweepProgress& progress) {
    show_progress(line(progress));
  };
  const ScanResult result = scan(shelf, source, scan_options);
  show_progress({});
  const bool shrunk = says_shrunk(source_path, skip, source->size());
  const int code = conclude(shelf, result, line, scan_options.depth);
  return shrunk ? kIncomplete : code;
}

}  // namespace undershelf::cli
