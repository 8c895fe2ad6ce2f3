#include <SQLiteCpp/Exception.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <csignal>
#include <filesystem>
#include <iostream>
#include <new>
#include <string_view>

#include "cli/command.h"
#include "cli/output.h"

namespace undershelf::cli {

std::span<const Command> commands() {
  static constexpr std::array kCommands = {
      Command{"survey", "SOURCE [options]", "Says what is on a source. Stores nothing.",
              "undershelf survey logger-card.img", run_survey},
      Command{"image", "SOURCE --to FILE [options]",
              "Copies a medium that may be failing, with a ledger of what was and was not read.",
              "undershelf image /dev/sdb --to logger-card.img --first metadata", run_image},
      Command{"scan", "SOURCE --shelf FILE [options]",
              "Reads a source's volumes into a shelf, the catalogue all other commands work on.",
              "undershelf scan logger-card.img --shelf logger-card.shelf", run_scan},
      Command{"volumes", "SHELF [options]", "Lists the volumes that were found.",
              "undershelf volumes logger-card.shelf", run_volumes},
      Command{"totals", "SHELF [filters] [options]",
              "Counts what was found, by type, folder, day and so on, and what to expect of it.",
              "undershelf totals logger-card.shelf --state deleted --by type", run_totals},
      Command{"list", "SHELF [filters] [options]", "Lists what was found, one line each.",
              "undershelf list logger-card.shelf --type picture --rating likely+", run_list},
      Command{"tree", "SHELF [filters] [options]", "Shows what was found as a tree of folders.",
              "undershelf tree logger-card.shelf --path 'READINGS/**'", run_tree},
      Command{"show", "SHELF ID [options]",
              "Tells everything known of one entry, and the reasons for its rating. ID may be its "
              "path.",
              "undershelf show logger-card.shelf 17", run_show},
      Command{"peek", "SHELF ID [options]",
              "Shows the content of one file, as text or hex; pictures where the terminal can.",
              "undershelf peek logger-card.shelf 17 --hex --bytes 256", run_peek},
      Command{"sheet", "SHELF --to FILE.png [filters] [options]",
              "Draws contact sheets: small pictures of files, with name, size and rating.",
              "undershelf sheet logger-card.shelf --to pictures.png --state deleted", run_sheet},
      Command{"advise", "SHELF [filters] [options]",
              "What was sought is not there: tells where to look next, by what the shelf knows.",
              "undershelf advise logger-card.shelf --name 'TG07.CSV'", run_advise},
      Command{"export", "SHELF --to DIR|ARCHIVE [filters] [options]",
              "Copies files out, with folders, names, times and hashes.",
              "undershelf export logger-card.shelf --to /media/target/job-12 --state deleted",
              run_export},
      Command{"verify", "DIR|IMAGE [options]",
              "Holds an export against its lists, its shelf, and what its files are; or an image "
              "against its ledger.",
              "undershelf verify /media/target/job-12 --shelf logger-card.shelf", run_verify},
      Command{"report", "SHELF --to DIR [filters] [options]",
              "Writes a page for the customer: what was found, and what comes back.",
              "undershelf report logger-card.shelf --to report-12 --case 12", run_report},
      Command{"mount", "SHELF DIR [filters] [options]",
              "Shows what was found as a read-only folder, for any program to open.",
              "undershelf mount logger-card.shelf /mnt/found --rating likely+", run_mount},
      Command{"job", "FILE", "Does the whole work on one source as a file describes it.",
              "undershelf job job-12.conf", run_job},
      Command{"demo", "[--to DIR]", "Does the whole job on the sample volumes.",
              "undershelf demo --to /tmp/undershelf-demo", run_demo},
  };
  return kCommands;
}

namespace {

std::string help() {
  std::string text =
      "Under Shelf gets files back from volumes on which they were deleted, or that\n"
      "were formatted. It never writes to what it reads.\n\nundershelf COMMAND ...\n\n";
  for (const Command& command : commands()) {
    text += wrapped(fmt::format("  {:<8} {}", command.name, command.summary), 80, 11) + "\n";
  }
  return text +
         "\n`undershelf help COMMAND` tells more of one. `undershelf --version` prints the\n"
         "version.\n\nExample, from an image to a verified export:\n"
         "  undershelf survey card.img\n"
         "  undershelf scan card.img --shelf card.shelf\n"
         "  undershelf list card.shelf --state deleted\n"
         "  undershelf export card.shelf --to recovered --state deleted\n"
         "  undershelf verify recovered --shelf card.shelf\n";
}

ExitCode code_of(Failure failure) {
  switch (failure) {
    case Failure::usage:
      return kUsage;
    case Failure::unavailable:
      return kUnavailable;
    case Failure::refused:
      return kRefused;
    case Failure::incomplete:
      break;
  }
  return kIncomplete;
}

int tell_no_memory() {
  warn("There is not enough memory for this. Close other programs, or use a machine with more.");
  return kIncomplete;
}

// What the shelf's library met, in our words.
int tell_shelf_failure(const SQLite::Exception& e) {
  switch (e.getErrorCode()) {
    case SQLITE_BUSY:
    case SQLITE_LOCKED:
      warn("The shelf is in use by another call just now. Try again when that has ended.");
      return kRefused;
    case SQLITE_FULL:
      warn(
          "The disk with the shelf is full. Make room there, then give the same call again: it "
          "goes on with what is stored.");
      return kIncomplete;
    case SQLITE_READONLY:
    case SQLITE_PERM:
    case SQLITE_CANTOPEN:
      warn("The shelf, or its folder, may not be written to. Copy it to a place that may.");
      return kUnavailable;
    case SQLITE_IOERR:
      warn(
          "The disk with the shelf failed while it was read or written. Copy the shelf to "
          "another disk, and try again.");
      return kUnavailable;
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB:
    case SQLITE_MISMATCH:
    case SQLITE_CONSTRAINT:
    case SQLITE_TOOBIG:
      break;
    default:
      // A question to the shelf that SQLite does not take is our fault, unless a table is not
      // there.
      if (!std::string_view(e.what()).starts_with("no such ")) {
        warn(
            fmt::format("This ended by a fault of the program (the shelf's library says: {}). "
                        "Nothing on the shelf was changed by it; please report it.",
                        e.what()));
        return kIncomplete;
      }
  }
  warn("The shelf is damaged. Scan the source into a new one.");
  return kUnavailable;
}

int run_command(const Command& command, const std::vector<std::string>& arguments) {
  try {
    const int code = command.run(command, arguments);
    std::cout.flush();
    if (!std::cout) {
      warn("Standard output could not be written in full.");
      return kIncomplete;
    }
    return code;
  } catch (const Error& e) {
    warn(e.what());
    return code_of(e.failure());
  } catch (const SQLite::Exception& e) {
    if (e.getErrorCode() == SQLITE_NOMEM) return tell_no_memory();
    return tell_shelf_failure(e);
  } catch (const std::filesystem::filesystem_error& e) {
    warn(
        fmt::format("{} cannot be reached: {}. Check that it is there, and that you have the "
                    "rights.",
                    e.path1().string(), e.code().message()));
    return kRefused;
  } catch (const std::bad_alloc&) {
    return tell_no_memory();
  } catch (const std::exception& e) {
    warn(
        fmt::format("This ended by a fault of the program ({}). What was stored so far is kept; "
                    "please report it.",
                    e.what()));
    return kIncomplete;
  }
}

}  // namespace

int run(const std::vector<std::string>& arguments) {
  if (arguments.empty()) {
    std::cerr << help();
    return kUsage;
  }
  std::vector<std::string> rest(arguments.begin() + 1, arguments.end());
  std::string name = arguments[0];
  const bool asks_for_help = name == "--help" || name == "-h" || name == "help";
  if (asks_for_help && rest.empty()) {
    std::cout << help();
    return kDone;
  }
  if (name == "help") {
    name = rest[0];
    rest = {"--help"};
  }
  if (name == "--version") {
    std::cout << "undershelf " UNDERSHELF_VERSION "\n";
    return kDone;
  }
  const auto command = std::ranges::find(commands(), name, &Command::name);
  if (command == commands().end()) {
    warn(fmt::format("There is no command `{}`. `undershelf --help` lists them.", name));
    return kUsage;
  }
  return run_command(*command, rest);
}

}  // namespace undershelf::cli

int main(int argc, char** argv) {
  try {
    std::ios::sync_with_stdio(false);
    // A file that may grow no further is a failed write, and told as one.
    std::signal(SIGXFSZ, SIG_IGN);
    return undershelf::cli::run({argv + 1, argv + argc});
  } catch (const std::bad_alloc&) {
    // Without asking for any more.
    constexpr std::string_view kSentence =
        "There is not enough memory for this. Close other programs, or use a machine with more.\n";
    [[maybe_unused]] const ssize_t told =
        ::write(STDERR_FILENO, kSentence.data(), kSentence.size());
    return 1;
  }
}
