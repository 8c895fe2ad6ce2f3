// `undershelf scan`: a source's volumes into a shelf.
#include "scan/scan.h"

#include <fmt/format.h>

#include <filesystem>

#include "cli/command.h"
#include "cli/filters.h"
#include "exporting/protect.h"
#include "model/text.h"
#include "source/device.h"

namespace undershelf::cli {
namespace {

// A new shelf, or the unfinished one of the same source.
Shelf open_or_create(const std::string& path, const std::string& source_path, const Source& source,
                     uint64_t skip, bool replace) {
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
  if (!scans.empty() && scans.back().state == "finished") {
    throw Error(Failure::refused,
                fmt::format("The shelf {} holds a finished scan of this source. List it with "
                            "`undershelf list {}`, or scan again with --replace.",
                            path, shell_quoted(path)));
  }
  say("Continuing an unfinished scan.");
  return shelf;
}

void require_supported(const CommandLine& line) {
  if (line.has("depth")) {
    require_known("--depth", line.text("depth"), {"quick", "deep"});
    if (line.text("depth") == "deep") {
      throw Error(Failure::usage,
                  "This version scans quickly only; it cannot scan deeply yet. Leave --depth out.");
    }
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
  return options;
}

// What is mounted for writing changes while it is read, and may be writing over the lost files.
void refuse_mounted(const std::string& source_path, bool anyway) {
  const std::optional<DeviceFacts> device = examine_device(source_path);
  if (!device || device->mounted_for_writing.empty()) return;
  if (!anyway) {
    throw Error(
        Failure::refused,
        fmt::format("A volume of {} is mounted for writing at {}: lost files may be written "
                    "over at any moment. Unmount it, or add --mounted-anyway.",
                    source_path, device->mounted_for_writing.front()));
  }
  warn(fmt::format("{} is mounted for writing at {}; what is read may change meanwhile.",
                   source_path, device->mounted_for_writing.front()));
}

void summarise(const Shelf& shelf, const ScanResult& result) {
  int64_t live = 0;
  int64_t deleted = 0;
  for (const VolumeRecord& record : shelf.volumes()) {
    live += record.live;
    deleted += record.deleted;
  }
  say(fmt::format("{} volume{}: {} living and {} deleted files.", result.volumes,
                  result.volumes == 1 ? "" : "s", live, deleted));
  if (result.source_is_short) say("The source ends before a volume on it does.");
  if (result.damage > 0) {
    say(fmt::format("Damage was met in {} place{}; `undershelf volumes` counts it.", result.damage,
                    result.damage == 1 ? "" : "s"));
  }
}

}  // namespace

int run_scan(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("shelf", po::value<std::string>()->value_name("FILE"),
                        "where the shelf is made")  //
      ("offset", po::value<std::string>()->value_name("N"),
       "leave out so many bytes at the start of the source")                               //
      ("mounted-anyway", "although a volume of the source device is mounted for writing")  //
      ("depth", po::value<std::string>()->value_name("DEPTH"),
       "quick (the default): what the volumes' own structures still tell")  //
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
  const ScanOptions scan_options = read_options(line);
  const std::string source_path = line.text("SOURCE");
  const uint64_t skip = read_bytes(line, "offset", 0);
  const SourcePtr source = open_source(source_path, skip);
  refuse_mounted(source_path, line.has("mounted-anyway"));
  refuse_on_source("shelf", shelf_path, source_path);

  Shelf shelf = open_or_create(shelf_path, source_path, *source, skip, line.has("replace"));
  const ScanResult result = scan_quickly(shelf, source, scan_options);
  show_progress({});
  if (result.volumes == 0) {
    say("No volume was found. A deep scan looks for what is left of volumes whose headers are "
        "gone; this version cannot do that yet.");
    next_step(fmt::format("undershelf survey {}", shell_quoted(source_path)));
    return kIncomplete;
  }
  summarise(shelf, result);
  next_step(fmt::format("undershelf list {} --state deleted", shell_quoted(shelf_path)));
  return result.damage > 0 || result.source_is_short ? kIncomplete : kDone;
}

}  // namespace undershelf::cli
