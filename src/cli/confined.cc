#include "cli/confined.h"

#include <fmt/format.h>

#include <filesystem>

#include "cli/command.h"
#include "source/confine.h"
#include "source/protect.h"

namespace undershelf::cli {

void confine_to(const std::vector<std::string>& targets) {
  namespace fs = std::filesystem;
  static bool told = false;
  std::error_code error;
  std::vector<std::string> writable = {"/dev/null", "/dev/tty"};
  for (const std::string& target : targets) {
    if (target.empty()) continue;
    const fs::path place = fs::absolute(target);
    if (fs::is_directory(place, error)) {
      writable.push_back(place.string());
      continue;
    }
    writable.push_back(nearest_existing(place.parent_path().string()));
    // What belongs to a file lies beside it, wherever a link to it is.
    const fs::path real = fs::canonical(place, error);
    if (!error) writable.push_back(real.parent_path().string());
  }
  const std::string why = confine_writing(writable);
  if (why.empty() || told) return;
  told = true;
  say(
      fmt::format("The kernel does not keep this program from writing elsewhere than to its "
                  "targets: {}. The program itself opens sources for reading only.",
                  why));
}

}  // namespace undershelf::cli
