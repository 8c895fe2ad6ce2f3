// `undershelf report`: a page for the customer, with figures and their data.
#include "report/report.h"

#include <fmt/format.h>

#include <iostream>

#include "access/content.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "cli/shelf_source.h"
#include "model/text.h"
#include "source/protect.h"

namespace undershelf::cli {

int run_report(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("to", po::value<std::string>()->value_name("DIR"),
                        "a new or empty folder, which takes report.html and what belongs to it")  //
      ("shop", po::value<std::string>()->value_name("NAME"), "whom the report is from")           //
      ("case", po::value<std::string>()->value_name("NUMBER"), "the job's number or name")        //
      ("customer", po::value<std::string>()->value_name("NAME"), "whom it is for")                //
      ("format", po::value<std::string>()->value_name("FORMAT"),
       "of what is said at the end: table (the default) or jsonl")  //
      ("source", po::value<std::string>()->value_name("PATH"),
       "where the source is now, for a contact sheet of lost pictures");
  add_filters(options, Sorted::no);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  ReportOptions report;
  report.directory = line.text("to");
  if (report.directory.empty()) {
    throw Error(Failure::usage, "Say where the report is to go, with --to DIR.");
  }
  report.header = {line.text("shop"), line.text("case"), line.text("customer")};
  report.described = filters_again(line);
  if (report.described.starts_with(' ')) report.described.erase(0, 1);
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  const ShownZone zone = read_zone(line, shelf);
  report.zone_name = zone.name;
  report.zone = zone.zone;
  refuse_on_source("target", report.directory, path_of_source(line, shelf));
  try {
    report.source = open_source_of(line, shelf, {report.directory});
  } catch (const Error& e) {
    if (line.has("source")) throw;
    say(fmt::format("Without pictures: {}", e.what()));
  }
  const ReportFacts facts = write_report(shelf, selection, report);
  const std::string page = report.directory + "/report.html";
  if (format == "jsonl") {
    Line fields(Line::Form::json);
    fields.begin();
    fields.text("page", page);
    fields.count("files", facts.all.totals.content());
    fields.count("bytes", facts.all.totals.bytes);
    fields.count("lost", facts.lost.totals.content());
    fields.raw("expected", fmt::format("{:.1f}", facts.lost.expected));
    std::cout << fields.end();
  } else {
    say(fmt::format("{}: {}, {} of them lost. Expected back byte for byte of what is lost: {:.0f}.",
                    printable(page), counted(facts.all.totals.content(), "file"),
                    facts.lost.totals.content(), facts.lost.expected));
  }
  return kDone;
}

}  // namespace undershelf::cli
