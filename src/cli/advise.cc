// `undershelf advise`: what was sought is not there; where to look next.
#include "advising/advise.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"
#include "source/ledger.h"

namespace undershelf::cli {
namespace {

// The call that an advice means, ready to be typed.
std::string call_of(const Advice& advice, const CommandLine& line, const Shelf& shelf) {
  const std::string path = quoted_path(line.text("SHELF"));
  switch (advice.call) {
    case Advice::Call::none:
      return {};
    case Advice::Call::list:
      return fmt::format("undershelf list {}{}{}", path, filters_again(line, advice.without),
                         advice.more);
    case Advice::Call::image: {
      const std::string image = shelf.source().path;
      if (!std::filesystem::exists(ledger_of(image))) return {};
      return fmt::format("undershelf image {} --to {} --select {}{}",
                         quoted_path(Ledger::load(ledger_of(image)).header().source),
                         quoted_path(image), path, filters_again(line));
    }
    case Advice::Call::scan:
      return fmt::format("undershelf scan {} --shelf {}{}", quoted_path(shelf.source().path), path,
                         advice.more);
  }
  return {};
}

}  // namespace

int run_advise(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default) or jsonl");
  add_filters(options, Sorted::no);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  const Shelf shelf = Shelf::open_to_read(line.text("SHELF"));
  const std::vector<Advice> advice = advise(shelf, read_filters(line, shelf));
  size_t number = 0;
  for (const Advice& one : advice) {
    const std::string call = call_of(one, line, shelf);
    if (format == "jsonl") {
      Line fields(Line::Form::json);
      fields.begin();
      fields.text("advice", one.word);
      fields.text("sentence", one.sentence);
      fields.count("files", one.files);
      fields.text("call", call.empty() ? std::nullopt : std::optional(call));
      std::cout << fields.end();
      continue;
    }
    std::cout << wrapped(fmt::format("{:>2}. {}", ++number, printable(one.sentence)),
                         output_width(), 4)
              << '\n';
    if (!call.empty()) std::cout << "    " << printable(call) << '\n';
  }
  if (advice.empty()) {
    say("The shelf has no other lead: the source was looked at to its end, and nothing in it "
        "fits.");
  }
  return kDone;
}

}  // namespace undershelf::cli
