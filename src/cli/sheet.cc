// `undershelf sheet`: contact sheets of what was selected.
#include "report/sheet.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <iostream>

#include "access/content.h"
#include "checking/preview.h"
#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "cli/shelf_source.h"
#include "exporting/target.h"
#include "model/text.h"
#include "source/files.h"
#include "source/protect.h"

namespace undershelf::cli {
namespace {

namespace fs = std::filesystem;

// The first page has the name that was given, the others a number in it.
std::string name_of_page(const fs::path& to, size_t page) {
  if (page == 1) return to.string();
  const std::string name =
      fmt::format("{}-{}{}", to.stem().string(), page, to.extension().string());
  return (to.parent_path() / name).string();
}

void write_page(const std::string& path, const std::string& png) {
  require_new_file(path);
  write_new_file(path, png);
}

}  // namespace

int run_sheet(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("to", po::value<std::string>()->value_name("FILE"),
                        "a new PNG; further pages take its name with -2, -3 and so on")  //
      ("format", po::value<std::string>()->value_name("FORMAT"),
       "of what is said at the end: table (the default) or jsonl");
  add_source(options);
  add_filters(options);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  const std::string to = line.text("to");
  if (!to.ends_with(".png")) {
    throw Error(Failure::usage, to.empty()
                                    ? "Say where the pages are to go, with --to FILE.png."
                                    : "The pages are PNG pictures: give --to a name that ends "
                                      "in .png.");
  }
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  refuse_on_source("target", to, path_of_source(line, shelf));
  require_new_file(to);
  const SourcePtr source = open_source_of(line, shelf, {to});
  const StopOnInterrupt interrupt(1);
  SheetOptions sheet;
  sheet.interrupts = &interrupt.times();
  sheet.progress = [](uint64_t files) {
    show_progress(fmt::format("Drawing: {}", counted(files, "file")));
  };
  std::vector<std::string> pages;
  sheet.page = [&](size_t page, const std::string& png) {
    pages.push_back(name_of_page(to, page));
    write_page(pages.back(), png);
  };
  const SheetResult result = make_sheets(shelf, source, selection, sheet);
  show_progress({});
  if (format == "jsonl") {
    Line fields(Line::Form::json);
    fields.begin();
    fields.list("pages", pages);
    fields.count("files", result.shown);
    fields.count("without_picture", result.without);
    fields.boolean("stopped", result.stopped);
    std::cout << fields.end();
  } else {
    say(fmt::format(
        "{} on {}, {}: {}{}.", counted(result.shown, "file"), counted(result.pages, "page"),
        result.without == 0 ? "each with its picture or first words"
                            : fmt::format("{} with neither picture nor words", result.without),
        printable(to), result.pages > 1 ? " and so on" : ""));
  }
  if (!result.all_decoders && result.without > 0) warn(std::string(checking::kNotAllDecoders));
  if (result.stopped) warn("Stopped. The pages that are there are whole.");
  next_step(fmt::format("undershelf export {} --to DIR{}{}", quoted_path(path), filters_again(line),
                        line.has("type") ? "" : " --type picture,video"));
  return result.stopped ? kIncomplete : kDone;
}

}  // namespace undershelf::cli
