#include "source/protect.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <filesystem>

#include "model/error.h"
#include "source/device.h"
#include "source/split.h"

namespace undershelf {

std::string nearest_existing(const std::string& path) {
  namespace fs = std::filesystem;
  std::error_code error;
  fs::path at = fs::absolute(path);
  while (!fs::exists(at, error) && at.has_relative_path()) at = at.parent_path();
  return at.string();
}

void refuse_on_source(const std::string& what, const std::string& path,
                      const std::string& source_path) {
  struct stat target {};
  const bool exists = ::stat(path.c_str(), &target) == 0;
  if (!exists && std::filesystem::is_symlink(std::filesystem::symlink_status(path))) {
    throw Error(
        Failure::refused,
        fmt::format("The {} {} is a link that leads nowhere. Give the place itself.", what, path));
  }
  // The nearest folder that exists tells on which device the rest would be made.
  const Foundation below = foundation_of(nearest_existing(path));

  for (const std::string& segment : segments_of(source_path)) {
    struct stat source {};
    if (::stat(segment.c_str(), &source) != 0) continue;  // opening it will say why
    const Foundation content = content_of_source(source);
    if (exists && (content.files.contains({target.st_dev, target.st_ino}) ||
                   (target.st_dev == source.st_dev && target.st_ino == source.st_ino))) {
      throw Error(Failure::refused,
                  fmt::format("The {} {} is the source itself. Nothing is ever written to a "
                              "source: choose another place.",
                              what, path));
    }
    if (meets(content, below)) {
      throw Error(Failure::refused, fmt::format("The {} {} lies on the source {}. Choose another "
                                                "medium.",
                                                what, path, segment));
    }
  }
}

}  // namespace undershelf
