#include "scan/check_files.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>

#include "carving/carve.h"
#include "model/error.h"
#include "placing/by_content.h"
#include "placing/joining.h"

namespace undershelf {

namespace {

// Work that the user may stop, and that needs processes which there may be none of.
void do_in_order(ScanResult& result, const std::function<void()>& work) {
  try {
    work();
  } catch (const Stopped&) {
    result.stopped = result.unchecked = true;
  } catch (const Error& e) {  // there can be no box here
    result.notes.emplace_back(e.what());
    result.unchecked = true;
  }
}

}  // namespace

void check_files(Shelf& shelf, Spaces& spaces, const Claims& claims, const ScanOptions& options,
                 const Budget& budget, ScanResult& result) {
  do_in_order(result, [&] {
    const uint64_t left_out = checking::check_files(
        shelf, spaces, {0, options.check_living, options.kinds, options.checking}, budget);
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
  });
}

void carve_files(Shelf& shelf, Spaces& spaces, const Claims& claims, const ScanOptions& options,
                 const Budget& budget, ScanResult& result) {
  carving::CarveOptions wanted{options.kinds, options.carve_unverified, {}};
  wanted.progress = [&](uint64_t done, uint64_t all) {
    options.progress(fmt::format("Looking for files by their content: {} of {} places", done, all));
  };
  do_in_order(result, [&] {
    const carving::Carved carved = carving::carve(shelf, spaces, claims, wanted, budget);
    result.carved = carved.files;
    if (carved.left_out > 0) {
      result.notes.push_back(
          fmt::format("{} places at which files seem to begin were not looked at to the end: that "
                      "would have been to read many times the medium.",
                      carved.left_out));
    }
  });
}

void join_found_files(Shelf& shelf, std::span<const VolumeId> numbered, const Budget& budget,
                      ScanResult& result) {
  do_in_order(result, [&] {
    const Joined joined = join_names(shelf, numbered, budget);
    result.joined = joined.files;
    result.carved -= std::min(result.carved, result.joined);
  });
}

}  // namespace undershelf
