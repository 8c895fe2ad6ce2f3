#include "kinds.h"

#include <filesystem>

#include "support.h"

namespace undershelf::test {

const std::map<std::string, std::string>& kinds() {
  static const auto kKinds = [] {
    std::map<std::string, std::string> files;
    const TempFolder folder;
    const std::string packed = std::string(UNDERSHELF_SAMPLES) + "/kinds.tar.zst";
    shell("tar -I zstd -xf " + quoted(packed) + " -C " + quoted(folder.path()));
    for (const auto& file : std::filesystem::directory_iterator(folder.path())) {
      files[file.path().filename()] = read_file(file.path());
    }
    return files;
  }();
  return kKinds;
}

}  // namespace undershelf::test
