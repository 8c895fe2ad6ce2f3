// `undershelf image`: copies a medium that may be failing.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <iostream>

#include "access/places.h"
#include "cli/command.h"
#include "cli/confined.h"
#include "cli/filters.h"
#include "cli/in_use.h"
#include "cli/output.h"
#include "exporting/target.h"
#include "imaging/copier.h"
#include "model/text.h"
#include "scan/inspect.h"
#include "scan/needed.h"
#include "shelf/line.h"
#include "source/nbd.h"
#include "source/protect.h"
#include "source/split.h"
#include "source/through.h"

namespace undershelf::cli {
namespace {

using State = Finding::State;

po::options_description image_options() {
  po::options_description options("Options");
  const auto number = [] { return po::value<std::string>()->value_name("N"); };
  options.add_options()("to", po::value<std::string>()->value_name("FILE"),
                        "the image; FILE.ledger beside it says what was read. If both are there, "
                        "the copy goes on")  //
      ("first", po::value<std::vector<std::string>>()->value_name("WHAT"),
       "copy before all else: metadata (what the file systems say of files and folders), used "
       "(what "
       "they say is in use)")  //
      ("select", po::value<std::string>()->value_name("SHELF"),
       "copy before all else what the filters select of this shelf")                     //
      ("first-only", "end when what is wanted first was copied")                         //
      ("attempts", number(), "at each sector that fails; 3 if not given")                //
      ("backwards", "from the end to the beginning")                                     //
      ("from", number(), "only from this byte on; K, M, G count 1024")                   //
      ("until", number(), "only before this byte")                                       //
      ("rate", number(), "read at most so many bytes a second")                          //
      ("patience", number(), "wait so many seconds for one answer; 30 if not given")     //
      ("work", number(), "after so many minutes at work, rest; with --pause")            //
      ("pause", number(), "rest so many minutes; with --work")                           //
      ("wait", number(), "for a medium that is gone, so many minutes; 10 if not given")  //
      ("room-anyway",
       "although the target has less room than the source is long: a copy takes "
       "none for what reads as zeros")                                              //
      ("mounted-anyway", "although a volume of the source is mounted for writing")  //
      ("format", po::value<std::string>()->value_name("FORMAT"),
       "of the account: table (the default) or jsonl");
  add_filters(options, Sorted::no);
  return options;
}

uint64_t count_of(const CommandLine& line, const char* option, uint64_t otherwise) {
  return line.has(option) ? read_number(option, line.text(option)) : otherwise;
}

// Numbers of which 0 would mean nothing.
void require_more_than_none(const CommandLine& line) {
  for (const char* option : {"attempts", "rate", "patience", "work", "pause"}) {
    if (!line.has(option) || line.text(option).find_first_not_of('0') != std::string::npos)
      continue;
    throw Error(Failure::usage,
                fmt::format("--{} 0 would let nothing be read. Give a number from 1 on.", option));
  }
}

CopyOptions read_options(const CommandLine& line, uint64_t size) {
  CopyOptions options;
  options.range = read_part(line, "until", size);
  options.backwards = line.has("backwards");
  options.attempts =
      static_cast<uint32_t>(std::clamp<uint64_t>(count_of(line, "attempts", 3), 1, 1000));
  options.most_per_second = read_bytes(line, "rate", 0);
  constexpr uint64_t kMostMinutes = 60 * 24 * 365;
  const auto minutes = [&](const char* option, uint64_t otherwise) {
    return Medium::Seconds(
        60.0 * static_cast<double>(std::min(count_of(line, option, otherwise), kMostMinutes)));
  };
  options.patience = Medium::Seconds(
      static_cast<double>(std::clamp<uint64_t>(count_of(line, "patience", 30), 1, 3600)));
  options.work = minutes("work", 0);
  options.pause = minutes("pause", 0);
  options.wait = minutes("wait", 10);
  options.rest = !line.has("first-only");
  return options;
}

void require_sense(const CommandLine& line) {
  require_more_than_none(line);
  for (const std::string& what : line.list("first")) {
    require_known("--first", what, {"metadata", "used"});
  }
  const bool wants = line.has("first") || line.has("select");
  if (line.has("first-only") && !wants) {
    throw Error(Failure::usage,
                "--first-only ends when what is wanted first was copied. Say what "
                "that is, with --first or --select.");
  }
  if (!line.has("select") && !filters_again(line).empty()) {
    throw Error(Failure::usage, "Filters select of a shelf. Say which, with --select SHELF.");
  }
  if (line.has("work") != line.has("pause")) {
    throw Error(Failure::usage,
                "--work and --pause go together: so long at work, so long at rest.");
  }
}

// One character for each part of the medium.
std::string strip_of(const ImageCopy& image, uint64_t size, size_t cells) {
  const uint64_t length = std::max<uint64_t>(1, (size + cells - 1) / cells);
  std::string strip;
  for (uint64_t at = 0; at < size; at += length) {
    bool failed = false, skipped = false, untried = false, read = false;
    for (const Noted& noted : image.in({at, std::min(length, size - at)})) {
      const State state = noted.finding.state;
      failed = failed || state == State::failed;
      skipped = skipped || state == State::skipped;
      untried = untried || state == State::untried;
      read = read || state == State::read;
    }
    strip += failed ? 'x' : skipped ? '?' : untried ? (read ? '-' : '.') : '=';
  }
  return strip;
}

std::string line_of(const CopyProgress& p, const ImageCopy& image, uint64_t size) {
  std::string text = fmt::format("{}: {} of {} ({} %)", p.stage, table_size(p.read),
                                 table_size(size), p.read * 100 / std::max<uint64_t>(1, size));
  if (p.failed > 0) text += fmt::format(", {} failed", table_size(p.failed));
  if (p.slow > 0) text += fmt::format(", {} slow", table_size(p.slow));
  const double rate = static_cast<double>(p.now) / std::max(p.seconds, 1e-3);
  if (p.seconds > 0.5 && rate > 0) {
    text += fmt::format(", {}/s, {} left", table_size(static_cast<uint64_t>(rate)),
                        duration(static_cast<double>(p.left) / rate));
  }
  return text + fmt::format(" [{}]", strip_of(image, size, 16));
}

// What came of it, within the part that was to be copied.
struct Account {
  uint64_t size = 0, read = 0, failed = 0, slow = 0, left = 0;  // bytes
  size_t places = 0;                                            // that failed
};

Account account_of(const ImageCopy& image, const ByteRange& range, uint64_t size) {
  Account account;
  account.size = size;
  for (const Noted& noted : image.in(range)) {
    const Finding& finding = noted.finding;
    const uint64_t length = noted.range.length;
    if (finding.state == State::read) {
      account.read += length;
      account.slow += finding.slow ? length : 0;
    } else if (finding.state == State::failed) {
      account.failed += length;
    } else {
      account.left += length;
    }
  }
  account.places = image.in(range, State::failed).size();
  return account;
}

void print_account(const Account& account, const std::string& to, CopyEnd end) {
  Line line(Line::Form::json);
  line.begin();
  line.text("image", to);
  line.text("ledger", ledger_of(to));
  line.count("size", account.size);
  line.count("read", account.read);
  line.count("slow", account.slow);
  line.count("failed", account.failed);
  line.count("failed_places", account.places);
  line.count("left", account.left);
  line.boolean("stopped", end == CopyEnd::stopped);
  line.boolean("gone", end == CopyEnd::gone);
  std::cout << line.end();
}

void say_account(const Account& account, const ImageCopy& image) {
  const auto part = [](const char* what, uint64_t bytes, const std::string& more = {}) {
    say(fmt::format("  {:<22} {:>10}  {} bytes{}", what, table_size(bytes), bytes, more));
  };
  part("read", account.read);
  if (account.slow > 0) part("  of it slow", account.slow);
  if (account.failed > 0) {
    part("failed", account.failed, fmt::format(", in {}", counted(account.places, "place")));
  }
  if (account.left > 0) part("not read yet", account.left);
  say(fmt::format("  [{}]", strip_of(image, account.size, 70)));
  say("  = read, x failed, ? stepped over, - read in part, . not tried");
}

// What the filters select of the shelf that --select names, as ranges of the medium; nothing if
// none is named.
std::optional<std::vector<ByteRange>> read_selected(const CommandLine& line, uint64_t size) {
  if (!line.has("select")) return std::nullopt;
  const Shelf shelf = Shelf::open_to_read(line.text("select"));
  const uint64_t skip = shelf.source().skip;
  if (shelf.source().size + skip != size) {
    throw Error(Failure::unavailable,
                fmt::format("The shelf {} describes another source: one of {} bytes, where this "
                            "has {}. Give the shelf of this source.",
                            line.text("select"), shelf.source().size + skip, size));
  }
  Places places = places_of(shelf, read_filters(line, shelf));
  uint64_t bytes = 0;
  for (ByteRange& range : places.ranges) {
    range.offset += skip;
    bytes += range.length;
  }
  say(fmt::format("Selected: {}, {} to be read first.", counted(places.files, "file"),
                  table_size(bytes)));
  if (places.elsewhere > 0) {
    say(
        fmt::format("{} more lie on disk images or nowhere that is known: the rest of the copy "
                    "brings what there is of them.",
                    places.elsewhere));
  }
  return std::move(places.ranges);
}

// Calls `read`, which reads through the image, again as long as trying again what failed in it
// brings something: it may lead further. Returns what it returned last.
template <typename Read>
size_t read_patiently(Medium& medium, ImageCopy& image, const CopyOptions& options, Read read) {
  const ByteRange all{0, medium.size()};
  while (true) {
    const size_t found = read();
    const uint64_t failed = image.bytes(State::failed);
    if (failed == 0) return found;
    CopyOptions again = options;
    again.first = {image.in(all, State::failed)};
    again.rest = false;
    const CopyEnd end = copy_medium(medium, image, again);
    if (end != CopyEnd::done || image.bytes(State::failed) == failed) return found;
  }
}

// Copies what the file systems say of themselves, and notes what is wanted after that.
void look_for_wanted(const CommandLine& line, Medium& medium, ImageCopy& image,
                     CopyOptions& options) {
  const std::vector<std::string> first = line.list("first");
  const SourcePtr source = through(medium, image);
  const NameOther name_other = [&](const ByteRange& where) {
    return name_of_other_system(*source, where);
  };
  Budget budget(options.interrupts);
  const auto wants = [&](const char* what) {
    return std::ranges::find(first, what) != first.end();
  };
  if (wants("metadata")) {
    show_progress("Reading what the file systems say of files and folders ...");
    const size_t volumes = read_patiently(
        medium, image, options, [&] { return read_structures(source, name_other, budget); });
    show_progress({});
    say(volumes == 0 ? "No volume was recognised: nothing is wanted before the rest."
                     : fmt::format("The structures of {} are copied.", counted(volumes, "volume")));
  }
  if (wants("used")) options.first.push_back(used_ranges(source, name_other, budget));
}

// A copy is not copied: what it lacks would be taken for zeros that were read.
void require_medium(const std::string& path) {
  if (!is_nbd(path) && std::filesystem::exists(ledger_of(path))) {
    throw Error(
        Failure::refused,
        fmt::format("{} is itself a copy, with a ledger of what it lacks. Scan it as it is, "
                    "or copy its medium.",
                    path));
  }
  if (segments_of(path).size() > 1) {
    throw Error(Failure::refused,
                fmt::format("{} is the first segment of a copy. Scan it as it is.", path));
  }
}

void require_room(const std::string& to, uint64_t size) {
  const bool goes_on = std::filesystem::exists(ledger_of(to));
  const uint64_t read = goes_on ? Ledger::load(ledger_of(to)).bytes(State::read) : 0;
  const uint64_t needed = size - std::min(read, size);
  const Target target = examine_target(std::filesystem::absolute(to).parent_path().string());
  if (target.most_file_bytes > 0 && size > target.most_file_bytes) {
    throw Error(Failure::refused,
                fmt::format("The file system at {} holds files of at most {} bytes, and the image "
                            "has {}. Choose another target.",
                            target.where, target.most_file_bytes, size));
  }
  if (target.free_bytes < needed) {
    throw Error(Failure::refused,
                fmt::format("{} has room for {}, and {} are still to be read. Choose another "
                            "target, or add --room-anyway: what reads as zeros takes no room.",
                            target.where, table_size(target.free_bytes), table_size(needed)));
  }
}

int conclude(const Account& account, CopyEnd end, const CommandLine& line) {
  const std::string to = line.text("to");
  if (end == CopyEnd::gone) {
    warn("The source did not come back. What was copied is kept; the same call goes on.");
    return kIncomplete;
  }
  if (end == CopyEnd::stopped) {
    warn("Stopped. What was copied is kept; the same call goes on.");
    return kIncomplete;
  }
  if (account.failed > 0) {
    say(fmt::format("What failed, {} lists. More --attempts may bring some of it.", ledger_of(to)));
  }
  if (account.left > 0) say("The same call without its limits copies the rest.");
  next_step(fmt::format("undershelf scan {} --shelf FILE", quoted_path(to)));
  return account.failed > 0 || account.left > 0 ? kIncomplete : kDone;
}

}  // namespace

int run_image(const Command& self, const std::vector<std::string>& arguments) {
  const CommandLine line(self, image_options(), {"SOURCE"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  const std::string path = line.text("SOURCE");
  const std::string to = line.text("to");
  if (to.empty()) throw Error(Failure::usage, "Say where the image is to be, with --to FILE.");
  require_sense(line);
  confine_to({to});
  require_medium(path);
  const std::unique_ptr<Medium> medium = open_medium(path);
  CopyOptions options = read_options(line, medium->size());
  refuse_in_use(path, line.has("mounted-anyway"));
  refuse_on_source("image", to, path);
  refuse_on_source("ledger", ledger_of(to), path);
  if (!std::filesystem::exists(to)) require_new_file(to);
  if (!line.has("room-anyway")) require_room(to, medium->size());
  const auto selected = read_selected(line, medium->size());
  if (selected) options.first.push_back(*selected);
  const LedgerHeader header = header_of(path, *medium);
  ImageCopy image(to, header);
  if (image.goes_on()) {
    if (header.serial.empty()) require_same_medium(*medium, image, to);
    say(fmt::format("Going on with {}: {} of it are read.", to,
                    table_size(image.bytes(State::read))));
  }
  const StopOnInterrupt interrupt(1);
  options.interrupts = &interrupt.times();
  options.progress = [&](const CopyProgress& progress) {
    show_progress(line_of(progress, image, medium->size()));
  };
  CopyEnd end = CopyEnd::stopped;
  try {
    look_for_wanted(line, *medium, image, options);
    end = copy_medium(*medium, image, options);
  } catch (const Stopped&) {
    image.flush();
  }
  show_progress({});
  const Account account = account_of(image, options.range, medium->size());
  if (format == "jsonl") {
    print_account(account, to, end);
  } else {
    say(fmt::format("From {} to {}:", path, to));
    say_account(account, image);
  }
  return conclude(account, end, line);
}

}  // namespace undershelf::cli
