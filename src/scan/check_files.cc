#include "scan/check_files.h"

#include <fmt/format.h>

#include "model/error.h"

namespace undershelf {

void check_files(Shelf& shelf, Spaces& spaces, const ScanOptions& options, const Budget& budget,
                 ScanResult& result) {
  try {
    const uint64_t left_out =
        checking::check_files(shelf, spaces, {0, options.check_living, options.checking}, budget);
    if (left_out == 0) return;
    result.notes.push_back(
        fmt::format("{} lost files that claim far more than the medium holds together with the "
                    "others were not looked at to their end.",
                    left_out));
  } catch (const Stopped&) {
    result.stopped = result.unchecked = true;
  } catch (const Error& e) {  // there can be no box here
    result.notes.emplace_back(e.what());
    result.unchecked = true;
  }
}

}  // namespace undershelf
