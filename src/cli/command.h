// What all commands share: their registry, their options, their messages.
#pragma once

#include <boost/program_options.hpp>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/budget.h"
#include "model/error.h"

namespace undershelf::cli {

namespace po = boost::program_options;

// docs: the contract's exit codes.
enum ExitCode : int { kDone = 0, kIncomplete = 1, kUsage = 2, kUnavailable = 3, kRefused = 4 };

struct Command {
  std::string_view name;
  std::string_view arguments;  // as in the usage line
  std::string_view summary;    // one line
  std::string_view example;    // one worked example
  int (*run)(const Command& self, const std::vector<std::string>& arguments);
};

std::span<const Command> commands();
// Runs one command line (without the program's name). Failures become a sentence and a code.
int run(const std::vector<std::string>& arguments);
// The same, with the call shown above what it prints.
int run_shown(const std::vector<std::string>& arguments);

// Parses a command's arguments. `positional` names them in order. Adds --help and --quiet.
// Throws Error (usage). If help was asked for, prints it and `help_given` is true.
class CommandLine {
 public:
  CommandLine(const Command& command, po::options_description options,
              const std::vector<std::string>& positional,
              const std::vector<std::string>& arguments);
  bool help_given() const { return help_given_; }
  bool has(const std::string& name) const { return values_.count(name) > 0; }
  std::string text(const std::string& name) const;  // empty if not given
  // All values of an option, repeated or with commas.
  std::vector<std::string> list(const std::string& name) const;
  // The options of `names` as they were given, ready to be typed again: " --state deleted".
  std::string again(std::span<const std::string> names) const;

 private:
  po::variables_map values_;
  std::vector<std::pair<std::string, std::string>> given_;  // option and value, in order
  bool help_given_ = false;
};

// To standard error, fitted to the terminal; what may steer it is shown escaped. Messages and next
// steps are held back by --quiet, warnings and failures are not.
void say(const std::string& sentence);
void warn(const std::string& sentence);
void next_step(const std::string& sentence);
void set_quiet(bool quiet);
bool is_quiet();  // what only say() would tell need not be worked out
// One line that overwrites itself and fits the terminal, or a plain line a minute where standard
// error is none. Empty: clears it.
void show_progress(const std::string& text);
// Columns of the terminal that a descriptor is; 0 if it is none.
size_t terminal_width(int descriptor);

// Counts each Ctrl-C, and that the terminal was closed, while a StopOnInterrupt lives.
class StopOnInterrupt {
 public:
  // One more than so many times ends the program at once.
  explicit StopOnInterrupt(int times);
  ~StopOnInterrupt();
  StopOnInterrupt(const StopOnInterrupt&) = delete;
  StopOnInterrupt& operator=(const StopOnInterrupt&) = delete;
  const Interrupts& times() const;
};

// Whether the last thing that a StopOnInterrupt guarded was asked to stop.
bool was_interrupted();

// A path as it must be written in a shell: one that begins with a dash would be taken for an
// option.
std::string quoted_path(const std::string& path);

int run_survey(const Command& self, const std::vector<std::string>& arguments);
int run_image(const Command& self, const std::vector<std::string>& arguments);
int run_scan(const Command& self, const std::vector<std::string>& arguments);
int run_volumes(const Command& self, const std::vector<std::string>& arguments);
int run_list(const Command& self, const std::vector<std::string>& arguments);
int run_mount(const Command& self, const std::vector<std::string>& arguments);
int run_verify(const Command& self, const std::vector<std::string>& arguments);
int run_totals(const Command& self, const std::vector<std::string>& arguments);
int run_tree(const Command& self, const std::vector<std::string>& arguments);
int run_show(const Command& self, const std::vector<std::string>& arguments);
int run_peek(const Command& self, const std::vector<std::string>& arguments);
int run_export(const Command& self, const std::vector<std::string>& arguments);
int run_advise(const Command& self, const std::vector<std::string>& arguments);
int run_report(const Command& self, const std::vector<std::string>& arguments);
int run_job(const Command& self, const std::vector<std::string>& arguments);
int run_sheet(const Command& self, const std::vector<std::string>& arguments);
int run_demo(const Command& self, const std::vector<std::string>& arguments);

}  // namespace undershelf::cli
