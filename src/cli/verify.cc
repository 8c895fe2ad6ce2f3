// `undershelf verify`: whether a bag is what its lists, its shelf and its files say, or an image
// what its ledger says.
#include "exporting/verify.h"

#include <fmt/format.h>

#include <filesystem>
#include <iostream>
#include <optional>

#include "cli/bytes_line.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "imaging/verify_image.h"
#include "model/text.h"
#include "shelf/shelf.h"
#include "source/ledger.h"

namespace undershelf::cli {
namespace {

void tell(const std::vector<std::string>& sentences) {
  constexpr size_t kMostTold = 20;
  for (size_t i = 0; i < sentences.size() && i < kMostTold; ++i) warn(printable(sentences[i]));
  if (sentences.size() > kMostTold) {
    warn(fmt::format("And {} more; --format jsonl has them all.", sentences.size() - kMostTold));
  }
}

void print_result(const VerifyResult& result, const std::string& directory) {
  Line line(Line::Form::json);
  line.begin();
  line.text("bag", directory);
  line.count("files", result.payload.files);
  line.count("bytes", result.payload.bytes);
  line.count("with_gaps", result.with_gaps);
  line.count("changed", result.changed);
  line.count("in_shelf", result.in_shelf);
  line.count("verified", result.verified);
  line.count("consistent", result.consistent);
  line.count("unknown", result.unknown);
  line.list("broken", result.broken);
  line.list("faults", result.faults);
  line.boolean("stopped", result.stopped);
  std::cout << line.end();
}

void row(const char* what, const std::string& text) {
  print_line(fmt::format("{:<10} {}", what, text), 11);
}

void say_result(const VerifyResult& result, bool with_shelf, bool checked) {
  row("as listed", fmt::format("{}, {}", counted(result.payload.files, "file"),
                               table_size(result.payload.bytes)));
  if (result.with_gaps > 0) {
    row("with gaps", fmt::format("{}; exported.jsonl lists which bytes are missing",
                                 counted(result.with_gaps, "file")));
  }
  if (result.changed > 0) {
    row("changed", fmt::format("{}: not what the scan read; exported.jsonl lists which",
                               counted(result.changed, "file")));
  }
  if (with_shelf) row("in shelf", counted(result.in_shelf, "file"));
  if (checked) {
    row("content",
        fmt::format("{} verified, {} consistent, {} of which nothing tells, {} broken",
                    result.verified, result.consistent, result.unknown, result.broken.size()));
  }
  row("faults", fmt::format("{}", result.faults.size()));
}

// Of an image of a medium, against its ledger.
int verify_image_at(const CommandLine& line, const std::string& image, const std::string& format) {
  for (const char* option : {"shelf", "no-check"}) {
    if (!line.has(option)) continue;
    throw Error(Failure::usage,
                fmt::format("--{} goes with the folder of an export: leave it out.", option));
  }
  const StopOnInterrupt interrupt(1);
  const ImageVerified result = verify_image(
      image, interrupt.times(),
      [shown = BytesLine()](uint64_t done, uint64_t total) { show_progress(shown(done, total)); });
  show_progress({});
  if (format == "jsonl") {
    Line fields(Line::Form::json);
    fields.begin();
    fields.text("image", image);
    fields.count("as_listed", result.as_listed);
    fields.count("unhashed", result.unhashed);
    fields.count("missing", result.missing);
    fields.list("faults", result.faults);
    fields.boolean("stopped", result.stopped);
    std::cout << fields.end();
  } else {
    row("as listed", table_size(result.as_listed));
    if (result.unhashed > 0) row("no hash", table_size(result.unhashed));
    if (result.missing > 0) {
      row("missing", fmt::format("{} were not read from the medium", table_size(result.missing)));
    }
    row("faults", fmt::format("{}", result.faults.size()));
  }
  tell(result.faults);
  if (result.stopped) warn("Stopped: the rest was not looked at.");
  return result.faults.empty() && !result.stopped ? kDone : kIncomplete;
}

}  // namespace

int run_verify(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("shelf", po::value<std::string>()->value_name("SHELF"),
                        "compare with what the shelf says of each file")(
      "no-check", "do not look at complete files to their ends")(
      "format", po::value<std::string>()->value_name("FORMAT"), "table (the default) or jsonl");
  const CommandLine line(self, options, {"DIR"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  if (const std::string place = line.text("DIR"); std::filesystem::is_regular_file(place)) {
    if (!std::filesystem::exists(ledger_of(place))) {
      throw Error(Failure::unavailable,
                  fmt::format("{} is a file without a ledger. Give the folder of an export, or an "
                              "image that `undershelf image` made.",
                              place));
    }
    return verify_image_at(line, place, format);
  }
  VerifyOptions verify;
  verify.directory = line.text("DIR");
  verify.check = !line.has("no-check");
  std::optional<Shelf> shelf;
  if (line.has("shelf")) shelf.emplace(Shelf::open_to_read(line.text("shelf")));
  const StopOnInterrupt interrupt(1);
  verify.interrupts = &interrupt.times();
  verify.progress = [shown = BytesLine()](uint64_t done, uint64_t total) {
    show_progress(shown(done, total));
  };
  const VerifyResult result = verify_bag(verify, shelf ? &*shelf : nullptr);
  show_progress({});
  if (format == "jsonl") {
    print_result(result, verify.directory);
  } else {
    say_result(result, shelf.has_value(), verify.check);
  }
  tell(result.faults);
  if (result.faults.empty()) tell(result.broken);
  if (result.stopped) {
    warn("Stopped: the rest was not looked at.");
    return kIncomplete;
  }
  return result.faults.empty() ? kDone : kIncomplete;
}

}  // namespace undershelf::cli
