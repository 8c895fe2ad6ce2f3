#include "cli/command.h"

#include <fmt/format.h>
#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <csignal>
#include <iostream>
#include <sstream>

#include "cli/output.h"
#include "model/shell.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

spdlog::logger& log() {
  static const auto logger = [] {
    auto made = std::make_shared<spdlog::logger>("messages",
                                                 std::make_shared<spdlog::sinks::stderr_sink_mt>());
    made->set_pattern("%v");
    return made;
  }();
  return *logger;
}

Interrupts interrupts{0};
std::atomic<int> heeded{1};  // times; after these the program ends at once
bool progress_shown = false;

void on_interrupt(int signal) {
  if (interrupts.fetch_add(1) < heeded) return;
  // What is stored so far stays, as after any kill.
  constexpr std::string_view kGoing =
      "\nEnding at once. What was stored so far can be gone on with.\n";
  [[maybe_unused]] const ssize_t written = ::write(STDERR_FILENO, kGoing.data(), kGoing.size());
  std::signal(signal, SIG_DFL);
  ::raise(signal);
}

// A message as it may go to standard error.
std::string fitted(const std::string& sentence) {
  const std::string text = printable(sentence);
  const size_t width = terminal_width(STDERR_FILENO);
  return width == 0 ? text : wrapped(text, width);
}

std::string describe(const Command& command, const po::options_description& options) {
  std::ostringstream out;
  out << "undershelf " << command.name << " " << command.arguments << "\n\n"
      << wrapped(command.summary, output_width()) << "\n\n"
      << options << "\nExample:\n  " << command.example << "\n";
  return out.str();
}

}  // namespace

CommandLine::CommandLine(const Command& command, po::options_description options,
                         const std::vector<std::string>& positional,
                         const std::vector<std::string>& arguments) {
  options.add_options()("quiet", "no messages but failures")("help,h", "this text");
  po::options_description hidden;
  po::positional_options_description order;
  for (const std::string& name : positional) {
    hidden.add_options()(name.c_str(), po::value<std::string>());
    order.add(name.c_str(), 1);
  }
  po::options_description all;
  all.add(options).add(hidden);
  using style = po::command_line_style::style_t;
  const auto fail = [&](const std::string& what) {
    throw Error(Failure::usage,
                fmt::format("{} `undershelf {} --help` tells what it takes.", what, command.name));
  };
  try {
    const po::parsed_options parsed = po::command_line_parser(arguments)
                                          .options(all)
                                          .positional(order)
                                          .style(style::unix_style & ~style::allow_guessing)
                                          .run();
    for (const auto& option : parsed.options) {
      if (option.position_key >= 0) continue;
      if (option.value.empty()) given_.emplace_back(option.string_key, std::string());
      for (const std::string& value : option.value) given_.emplace_back(option.string_key, value);
    }
    po::store(parsed, values_);
  } catch (const po::unknown_option& e) {
    fail(fmt::format("There is no option {}.", e.get_option_name()));
  } catch (const po::too_many_positional_options_error&) {
    fail("That is one argument too many.");
  } catch (const po::error& e) {
    fail(fmt::format("The call is wrong: {}.", e.what()));
  }
  set_quiet(has("quiet"));
  if (has("help")) {
    std::cout << describe(command, options);
    help_given_ = true;
    return;
  }
  for (const std::string& name : positional) {
    if (!has(name)) fail(fmt::format("The {} is missing.", name));
  }
}

std::string CommandLine::text(const std::string& name) const {
  return has(name) ? values_[name].as<std::string>() : std::string();
}

std::vector<std::string> CommandLine::list(const std::string& name) const {
  std::vector<std::string> out;
  if (!has(name)) return out;
  for (const std::string& value : values_[name].as<std::vector<std::string>>()) {
    for (size_t at = 0; at <= value.size();) {
      const size_t comma = std::min(value.find(',', at), value.size());
      if (comma > at) out.push_back(value.substr(at, comma - at));
      at = comma + 1;
    }
  }
  if (out.empty()) throw Error(Failure::usage, fmt::format("--{} needs a value.", name));
  return out;
}

bool is_quiet() { return !log().should_log(spdlog::level::info); }
void set_quiet(bool quiet) { log().set_level(quiet ? spdlog::level::err : spdlog::level::info); }

void say(const std::string& sentence) {
  std::cout.flush();  // in order where both go to one terminal
  show_progress({});
  log().info(fitted(sentence));
}

void warn(const std::string& sentence) {
  std::cout.flush();
  show_progress({});
  log().error(fitted(sentence));
}

void next_step(const std::string& sentence) { say("Next: " + sentence); }

void show_progress(const std::string& text) {
  if (log().level() > spdlog::level::info) return;
  const size_t width = terminal_width(STDERR_FILENO);
  if (width == 0) {
    // Into a log: not the first moment of something short, then a line a minute.
    using Clock = std::chrono::steady_clock;
    static Clock::time_point last = Clock::now();
    if (text.empty() || Clock::now() - last < std::chrono::minutes(1)) return;
    last = Clock::now();
    log().info(printable(text));
    return;
  }
  if (text.empty() && !progress_shown) return;
  // The last column stays free, or the terminal begins a new line.
  std::cerr << "\r\x1b[K" << shortened(printable(text), width - 1) << std::flush;
  progress_shown = !text.empty();
}

namespace {
constexpr std::array kStopping = {SIGINT, SIGTERM, SIGHUP};
}  // namespace

StopOnInterrupt::StopOnInterrupt(int times) {
  interrupts.store(0);
  heeded.store(times);
  for (const int signal : kStopping) std::signal(signal, on_interrupt);
}

StopOnInterrupt::~StopOnInterrupt() {
  for (const int signal : kStopping) std::signal(signal, SIG_DFL);
}

std::string CommandLine::again(std::span<const std::string> names) const {
  std::string out;
  for (const auto& [name, value] : given_) {
    if (std::ranges::find(names, name) == names.end()) continue;
    out += " --" + name;
    if (!value.empty()) out += " " + shell_quoted(value);
  }
  return out;
}

const Interrupts& StopOnInterrupt::times() const { return interrupts; }

bool was_interrupted() { return interrupts > 0; }

int run_shown(const std::vector<std::string>& arguments) {
  std::string shown = "undershelf";
  for (const std::string& argument : arguments) shown += " " + shell_quoted(argument);
  std::cout << "\n$ " << printable(shown) << std::endl;
  const int code = run(arguments);
  std::cout.flush();
  return code;
}

std::string quoted_path(const std::string& path) {
  return shell_quoted(path.starts_with('-') ? "./" + path : path);
}

}  // namespace undershelf::cli
