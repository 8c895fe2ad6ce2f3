#include "source/nbd.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <string_view>

#include "model/error.h"
#include "model/module.h"

namespace undershelf {

bool is_nbd(const std::string& source) {
  constexpr std::array<std::string_view, 4> kSchemes = {"nbd://", "nbds://", "nbd+unix://",
                                                        "nbds+unix://"};
  return std::ranges::any_of(kSchemes,
                             [&](std::string_view scheme) { return source.starts_with(scheme); });
}

std::unique_ptr<Medium> open_nbd(const std::string& uri) {
  void* const open = function_of_module(kNetworkModule, kOpenNbd);
  if (open == nullptr) {
    throw Error(Failure::unavailable,
                fmt::format("Cannot open the source {}: {} is not beside the program, or lacks a "
                            "library. Install Under Shelf anew.",
                            uri, kNetworkModule));
  }
  return std::unique_ptr<Medium>(reinterpret_cast<OpenNbd*>(open)(uri));
}

}  // namespace undershelf
