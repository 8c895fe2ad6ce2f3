#include "model/volume.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <string_view>
#include <utility>

namespace undershelf {

std::string spelled(const std::string& file_system) {
  constexpr std::array<std::pair<std::string_view, std::string_view>, 2> kOwn = {
      {{"exfat", "exFAT"}, {"hfsplus", "HFS+"}}};
  for (const auto& [stored, written] : kOwn) {
    if (file_system == stored) return std::string(written);
  }
  std::string upper = file_system;
  std::ranges::transform(upper, upper.begin(),
                         [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  return upper;
}

}  // namespace undershelf
