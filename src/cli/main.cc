#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <iostream>

#include "cli/command.h"

namespace undershelf::cli {

std::span<const Command> commands() {
  static constexpr std::array kCommands = {
      Command{"survey", "SOURCE [options]", "Says what is on a source. Stores nothing.",
              "undershelf survey logger-card.img", run_survey},
      Command{"scan", "SOURCE --shelf FILE [options]",
              "Reads a source's volumes into a shelf, the catalogue all other commands work on.",
              "undershelf scan logger-card.img --shelf logger-card.shelf", run_scan},
      Command{"volumes", "SHELF [options]", "Lists the volumes that were found.",
              "undershelf volumes logger-card.shelf", run_volumes},
      Command{"list", "SHELF [filters] [options]", "Lists what was found, one line each.",
              "undershelf list logger-card.shelf --state deleted --type picture --rating likely",
              run_list},
      Command{"tree", "SHELF [filters] [options]", "Shows what was found as a tree of folders.",
              "undershelf tree logger-card.shelf --path 'READINGS/**'", run_tree},
      Command{"show", "SHELF ID [options]",
              "Tells everything known of one entry, and the reasons for its rating.",
              "undershelf show logger-card.shelf 17", run_show},
      Command{"peek", "SHELF ID [options]", "Shows the content of one file, as text or hex.",
              "undershelf peek logger-card.shelf 17 --hex --bytes 256", run_peek},
      Command{"export", "SHELF --to DIR [filters] [options]",
              "Copies files out, with folders, names, times and hashes.",
              "undershelf export logger-card.shelf --to /media/target/job-12 --state deleted",
              run_export},
      Command{"demo", "[--to DIR]", "Does the whole job on the sample volumes.",
              "undershelf demo --to /tmp/undershelf-demo", run_demo},
  };
  return kCommands;
}

namespace {

std::string help() {
  std::string text =
      "Under Shelf gets files back from volumes on which they were deleted, or that were\n"
      "formatted. It never writes to what it reads.\n\nundershelf COMMAND ...\n\n";
  for (const Command& command : commands()) {
    text += fmt::format("  {:<8} {}\n", command.name, command.summary);
  }
  return text +
         "\n`undershelf COMMAND --help` tells more of one. `undershelf --version` prints the "
         "version.\n\nExample, from an image to a verified export:\n"
         "  undershelf survey card.img\n"
         "  undershelf scan card.img --shelf card.shelf\n"
         "  undershelf list card.shelf --state deleted\n"
         "  undershelf export card.shelf --to recovered --state deleted\n"
         "  cd recovered && sha256sum -c manifest-sha256.txt\n";
}

ExitCode code_of(Failure failure) {
  switch (failure) {
    case Failure::usage:
      return kUsage;
    case Failure::unavailable:
      return kUnavailable;
    case Failure::refused:
      break;
  }
  return kRefused;
}

}  // namespace

int run(const std::vector<std::string>& arguments) {
  if (arguments.empty()) {
    std::cerr << help();
    return kUsage;
  }
  if (arguments[0] == "--help" || arguments[0] == "help") {
    std::cout << help();
    return kDone;
  }
  if (arguments[0] == "--version") {
    std::cout << "undershelf " UNDERSHELF_VERSION "\n";
    return kDone;
  }
  const auto command = std::ranges::find(commands(), arguments[0], &Command::name);
  if (command == commands().end()) {
    warn(fmt::format("There is no command `{}`. `undershelf --help` lists them.", arguments[0]));
    return kUsage;
  }
  try {
    const int code = command->run(*command, {arguments.begin() + 1, arguments.end()});
    std::cout.flush();
    if (!std::cout) {
      warn("Standard output could not be written in full.");
      return kIncomplete;
    }
    return code;
  } catch (const Error& e) {
    warn(e.what());
    return code_of(e.failure());
  } catch (const std::bad_alloc&) {
    warn("There is not enough memory for this.");
    return kIncomplete;
  } catch (const std::exception& e) {
    // The shelf's own library, mostly: a damaged or locked file.
    warn(fmt::format("This could not be done: {}. Check the shelf and the free space.", e.what()));
    return kUnavailable;
  }
}

}  // namespace undershelf::cli

int main(int argc, char** argv) {
  std::ios::sync_with_stdio(false);
  return undershelf::cli::run({argv + 1, argv + argc});
}
