#include "cli/in_use.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "cli/command.h"
#include "model/error.h"

namespace undershelf::cli {

void warn_of_use(const std::string& path, const SourceUse& use) {
  const auto say_loudly = [&](const std::vector<std::string>& uses, const char* how) {
    if (!uses.empty()) warn(fmt::format("WARNING: {} {} {}.", path, how, fmt::join(uses, ", ")));
  };
  say_loudly(use.mounted_for_writing,
             "is in use. Unmount it before anything else; it is mounted for writing at");
  say_loudly(use.swap, "is in use. Turn swapping off first; it holds swap space:");
  say_loudly(use.holders, "is in use. It is part of a volume group, an array or a mapping:");
}

void refuse_in_use(const std::string& path, bool mounted_anyway) {
  const SourceUse use = use_of(path);
  if (!use.mounted_for_writing.empty() && !mounted_anyway) {
    throw Error(
        Failure::refused,
        fmt::format("A volume of {} is mounted for writing at {}: lost files may be written "
                    "over at any moment. Unmount it, or add --mounted-anyway.",
                    path, use.mounted_for_writing.front()));
  }
  warn_of_use(path, use);
}

}  // namespace undershelf::cli
