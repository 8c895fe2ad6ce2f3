// `undershelf verify`: whether a bag is what its lists, its shelf and its files say.
#include "exporting/verify.h"

#include <fmt/format.h>

#include <iostream>
#include <optional>

#include "cli/bytes_line.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"
#include "shelf/shelf.h"

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
  line.count("in_shelf", result.in_shelf);
  line.count("verified", result.verified);
  line.count("consistent", result.consistent);
  line.count("unknown", result.unknown);
  line.list("broken", result.broken);
  line.list("faults", result.faults);
  line.boolean("stopped", result.stopped);
  std::cout << line.end();
}

void say_result(const VerifyResult& result, bool with_shelf, bool checked) {
  const auto row = [](const char* what, const std::string& text) {
    print_line(fmt::format("{:<10} {}", what, text), 11);
  };
  row("as listed", fmt::format("{}, {}", counted(result.payload.files, "file"),
                               table_size(result.payload.bytes)));
  if (result.with_gaps > 0) {
    row("with gaps", fmt::format("{}; exported.jsonl lists which bytes are missing",
                                 counted(result.with_gaps, "file")));
  }
  if (with_shelf) row("in shelf", counted(result.in_shelf, "file"));
  if (checked) {
    row("content",
        fmt::format("{} verified, {} consistent, {} of which nothing tells, {} broken",
                    result.verified, result.consistent, result.unknown, result.broken.size()));
  }
  row("faults", fmt::format("{}", result.faults.size()));
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
