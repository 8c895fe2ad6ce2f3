#include "scan/check_files.h"

#include <fmt/format.h>

#include "model/error.h"
#include "placing/by_content.h"

namespace undershelf {

void check_files(Shelf& shelf, Spaces& spaces, const Claims& claims, const ScanOptions& options,
                 const Budget& budget, ScanResult& result) {
  try {
    const uint64_t left_out =
        checking::check_files(shelf, spaces, {0, options.check_living, options.checking}, budget);
    if (left_out > 0) {
      result.notes.push_back(
          fmt::format("{} lost files that claim far more than the medium holds together with the "
                      "others were not looked at to their end.",
                      left_out));
    }
    options.progress("Placing lost files by their content");
    const PlacedByContent placed = place_by_content(shelf, spaces, claims, budget);
    if (placed.left_out > 0) {
      result.notes.push_back(
          fmt::format("{} lost files that break off were not tried in all places their content may "
                      "lie in: that would have been to read more than twice the medium.",
                      placed.left_out));
    }
  } catch (const Stopped&) {
    result.stopped = result.unchecked = true;
  } catch (const Error& e) {  // there can be no box here
    result.notes.emplace_back(e.what());
    result.unchecked = true;
  }
}

}  // namespace undershelf
