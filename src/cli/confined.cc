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
    fs::path place = fs::absolute(target);
    if (!fs::is_directory(place, error)) place = nearest_existing(place.parent_path().string());
    writable.push_back(place.string());
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
