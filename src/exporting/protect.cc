#include "exporting/protect.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <filesystem>

#include "model/error.h"

namespace undershelf {

void refuse_on_source(const std::string& what, const std::string& path,
                      const std::string& source_path) {
  struct stat source {};
  if (::stat(source_path.c_str(), &source) != 0) return;  // opening it will say why
  struct stat target {};
  if (::stat(path.c_str(), &target) == 0 && target.st_dev == source.st_dev &&
      target.st_ino == source.st_ino) {
    throw Error(Failure::refused,
                fmt::format("The {} {} is the source itself. Nothing is ever written to a source: "
                            "choose another place.",
                            what, path));
  }
  // The nearest folder that exists tells on which device the rest would be made.
  std::filesystem::path at = std::filesystem::absolute(path);
  while (::stat(at.c_str(), &target) != 0 && at.has_relative_path()) at = at.parent_path();
  if (S_ISBLK(source.st_mode) && target.st_dev == source.st_rdev) {
    throw Error(Failure::refused,
                fmt::format("The {} {} lies on the source device {}. Choose another medium.", what,
                            path, source_path));
  }
}

}  // namespace undershelf
