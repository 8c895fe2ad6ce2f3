// `undershelf job`: the whole work on one source, as a file describes it, without anybody beside
// it.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>
#include <iostream>

#include "cli/command.h"
#include "cli/confined.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "exporting/archive_writer.h"
#include "exporting/target.h"
#include "model/text.h"
#include "scan/check.h"
#include "shelf/shelf.h"
#include "source/identity.h"
#include "source/nbd.h"
#include "source/protect.h"
#include "source/source.h"

namespace undershelf::cli {
namespace {

namespace fs = std::filesystem;

// Filters that a job may name, with what they are if it does not.
struct Filter {
  const char* name;
  const char* otherwise;
};
constexpr std::array kFilters = {
    Filter{"name", ""},     Filter{"path", ""},
    Filter{"find", ""},     Filter{"ext", ""},
    Filter{"type", ""},     Filter{"size", ""},
    Filter{"modified", ""}, Filter{"created", ""},
    Filter{"deleted", ""},  Filter{"state", "deleted,former,carved"},
    Filter{"volume", ""},   Filter{"rating", "likely+"},
};

po::options_description known_lines() {
  po::options_description lines;
  const auto add = [&](const char* name, const char* otherwise, const char* what) {
    lines.add_options()(name, po::value<std::string>()->default_value(otherwise), what);
  };
  add("source", "", "what is scanned");
  add("shelf", "", "the shelf; if not given beside the job, and of its name");
  add("depth", "deep", "of the scan: quick or deep");
  add("check", "full", "how far lost content is looked at: none, sample or full");
  add("kinds", "", "types that are looked for by content, and checked; all if not given");
  add("time-zone", "", "of the source's local times");
  add("code-page", "", "of its short names");
  add("export", "", "the folder or archive that the files go to; none if not given");
  add("layout", "tree", "of the export: tree, type or flat");
  add("report", "", "the folder of the report; none if not given");
  add("shop", "", "whom the report is from");
  add("case", "", "the job's number or name, in the report");
  add("customer", "", "whom the report is for");
  for (const Filter& filter : kFilters) {
    add(filter.name, filter.otherwise,
        fmt::format(
            "filter of the export{}",
            *filter.otherwise == 0 ? "" : fmt::format("; {} if not given", filter.otherwise))
            .c_str());
  }
  return lines;
}

// The lines of a job file, with paths as seen from here.
class Job {
 public:
  explicit Job(const std::string& path) : folder_(fs::path(path).parent_path()) {
    std::ifstream file(path);
    if (!file || fs::is_directory(path)) {
      throw Error(Failure::unavailable,
                  fmt::format("The job file {} cannot be read. Check its name.", path));
    }
    try {
      po::store(po::parse_config_file(file, known_lines()), lines_);
      po::notify(lines_);
    } catch (const po::unknown_option& e) {
      throw Error(
          Failure::usage,
          fmt::format("The job file {} has a line `{}`, which no job knows. `undershelf job "
                      "--help` lists them.",
                      path, e.get_option_name()));
    } catch (const po::multiple_occurrences& e) {
      throw Error(Failure::usage,
                  fmt::format("The job file {} says {} twice. Separate several values by commas.",
                              path, e.get_option_name()));
    } catch (const po::error&) {
      throw Error(
          Failure::usage,
          fmt::format("The job file {} has a line that is no `name = value`. `undershelf job "
                      "--help` shows an example.",
                      path));
    }
    if (text("source").empty()) {
      throw Error(Failure::usage,
                  fmt::format("The job file {} names no source: add `source = ...`.", path));
    }
    shelf_ = text("shelf").empty() ? fs::path(path).replace_extension(".shelf").string()
                                   : path_in("shelf");
  }

  std::string text(const std::string& name) const { return lines_[name].as<std::string>(); }
  // Relative ones are seen from the job file's folder.
  std::string path_in(const std::string& name) const {
    const std::string given = text(name);
    return given.empty() || given == "-" || is_nbd(given) ? given : (folder_ / given).string();
  }
  const std::string& shelf() const { return shelf_; }

 private:
  const fs::path folder_;
  po::variables_map lines_;
  std::string shelf_;
};

void add(std::vector<std::string>& call, const std::string& option, const std::string& value) {
  if (value.empty()) return;
  call.push_back("--" + option);
  call.push_back(value);
}

// A scan that was killed at once leaves an empty file.
bool has_shelf(const Job& job) { return fs::exists(job.shelf()) && Shelf::is_shelf(job.shelf()); }

std::vector<std::string> export_filters(const Job& job) {
  std::vector<std::string> call;
  for (const Filter& filter : kFilters) add(call, filter.name, job.text(filter.name));
  return call;
}

// All that a line can be wrong in, before the first step: hours may lie between that and the one
// that needs it. Throws Error.
void check_lines(const Command& self, const Job& job) {
  require_known("depth", job.text("depth"), {"quick", "deep"});
  require_known("check", job.text("check"), {"none", "sample", "full"});
  require_known("layout", job.text("layout"), {"tree", "type", "flat"});
  const Zone zone = job.text("time-zone").empty() ? Zone() : zone_named(job.text("time-zone"));
  if (!job.text("code-page").empty()) const CodePage known(job.text("code-page"));
  std::vector<std::string> scanned;
  add(scanned, "type", job.text("kinds"));
  for (const std::vector<std::string>& filters : {export_filters(job), scanned}) {
    po::options_description options;
    add_filters(options);
    parse_filters(CommandLine(self, options, {}, filters), zone);
  }
  const std::string source = job.path_in("source");
  for (const auto& [what, place] :
       {std::pair("shelf", job.shelf()), std::pair("target", job.path_in("export")),
        std::pair("report", job.path_in("report"))}) {
    if (place.empty() || place == "-") continue;
    refuse_on_source(what, place, source);
    const bool is_file = what == std::string_view("shelf") || archive_form_of(place).has_value();
    require_writable_parent(is_file ? fs::absolute(place).parent_path().string() : place);
  }
  if (job.path_in("export") == "-") {
    throw Error(Failure::usage,
                "A job's export goes to a folder or an archive, not to a stream. Give `export` a "
                "name.");
  }
}

// The shelf must be that of the job's source, which must be there. Throws Error (unavailable).
void require_same_source(const Job& job) {
  const std::string path = job.path_in("source");
  const Shelf shelf = Shelf::open_to_read(job.shelf());
  const SourceIdentity known = shelf.source();
  const SourcePtr source = open_source(path, known.skip);
  if (const std::string how = difference(known, *source, path); !how.empty()) {
    throw Error(Failure::unavailable,
                fmt::format("The shelf {} is not of the source {}: {}. Give the job the right "
                            "source, or another shelf (`shelf = ...`).",
                            job.shelf(), path, how));
  }
}

bool is_scanned(const Job& job) {
  if (!has_shelf(job)) return false;
  const std::vector<ScanRecord> scans = Shelf::open_to_read(job.shelf()).scans();
  if (scans.empty() || scans.back().state != "finished") return false;
  return std::ranges::any_of(scans, [&](const ScanRecord& scan) {
    return scan.state == "finished" && (scan.depth == "deep" || job.text("depth") == "quick") &&
           check_named(scan.check) >= check_named(job.text("check"));
  });
}

// The steps, one after the other, until one fails or is stopped; what is done already is not done
// again.
class Steps {
 public:
  explicit Steps(const Job& job) : job_(job) {}

  int run() {
    if (has_shelf(job_)) require_same_source(job_);
    scan() && export_files() && report();
    return worst_;
  }

 private:
  // Whether the work goes on: what is incomplete is told, and is no reason to end.
  bool then(const std::vector<std::string>& call) {
    const int code = run_shown(call);
    worst_ = std::max(worst_, code);
    if (code > kIncomplete) return false;
    if (!was_interrupted()) return true;
    warn("The job was stopped. The same call goes on with it.");
    return false;
  }

  bool scan() {
    if (is_scanned(job_)) {
      say(fmt::format("The shelf {} holds this scan already.", job_.shelf()));
      return true;
    }
    std::vector<std::string> call = {"scan", job_.path_in("source"), "--shelf", job_.shelf()};
    for (const char* option : {"depth", "check", "kinds", "time-zone", "code-page"}) {
      add(call, option, job_.text(option));
    }
    return then(call);
  }

  bool export_files() {
    const std::string to = job_.path_in("export");
    if (to.empty()) return true;
    const bool archive = archive_form_of(to).has_value();
    if (archive && fs::exists(to)) {
      if (!is_archive_of(Shelf::open_to_read(job_.shelf()), to)) {
        throw Error(Failure::refused,
                    fmt::format("{} is there already, and is no export of this shelf as it is now. "
                                "Nothing is overwritten: move it, or give the job another name.",
                                to));
      }
      say(fmt::format("{} is there already, and whole.", to));
      return true;
    }
    std::vector<std::string> call = {"export", job_.shelf(), "--to",
                                     to,       "--source",   job_.path_in("source")};
    if (job_.text("layout") != "tree") add(call, "layout", job_.text("layout"));
    const std::vector<std::string> filters = export_filters(job_);
    call.insert(call.end(), filters.begin(), filters.end());
    if (!archive && fs::exists(to) && !fs::is_empty(to)) call.emplace_back("--resume");
    if (!then(call)) return false;
    return archive || !fs::exists(fs::path(to) / "bag-info.txt") ||
           then({"verify", to, "--shelf", job_.shelf()});
  }

  bool report() {
    const std::string to = job_.path_in("report");
    if (to.empty()) return true;
    if (fs::exists(fs::path(to) / "report.html")) {
      say(fmt::format("{} holds the report already.", to));
      return true;
    }
    std::vector<std::string> call = {"report", job_.shelf(), "--to", to};
    for (const char* option : {"shop", "case", "customer"}) add(call, option, job_.text(option));
    return then(call);
  }

  const Job& job_;
  int worst_ = kDone;
};

constexpr const char* kExample =
    "\nA job file, of which every line but `source` may be left out:\n\n"
    "  source   = /dev/sdx\n"
    "  depth    = deep\n"
    "  type     = picture,video\n"
    "  rating   = likely+\n"
    "  export   = recovered\n"
    "  report   = report\n"
    "  case     = 17\n"
    "  customer = Tide-gauge survey party\n\n"
    "Paths are seen from the job file's folder. What is exported is what the filters\n"
    "select; if they are not given, what is lost and whole or likely.\n";

}  // namespace

int run_job(const Command& self, const std::vector<std::string>& arguments) {
  const CommandLine line(self, po::options_description("Options"), {"FILE"}, arguments);
  if (line.help_given()) {
    std::cout << "\nLines of a job file:\n";
    const po::options_description lines = known_lines();
    for (const auto& known : lines.options()) {
      std::cout << wrapped(fmt::format("  {:<10} {}", known->long_name(), known->description()),
                           output_width(), 13)
                << '\n';
    }
    std::cout << kExample;
    return kDone;
  }
  const Job job(line.text("FILE"));
  check_lines(self, job);
  confine_to({job.shelf(), job.path_in("export"), job.path_in("report")});
  return Steps(job).run();
}

}  // namespace undershelf::cli
