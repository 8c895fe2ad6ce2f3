// Contact sheets: pages of small pictures with name, size and rating below each.
#pragma once

#include <cstddef>
#include <functional>
#include <string>

#include "model/budget.h"
#include "shelf/selection.h"
#include "source/source.h"

namespace undershelf {

struct SheetOptions {
  const Interrupts* interrupts = nullptr;  // asked once, the page that is begun is the last
  // Told how many files were looked at.
  std::function<void(uint64_t)> progress = [](uint64_t) {};
  // Takes a page, a PNG of 1280x800; the first is 1.
  std::function<void(size_t page, const std::string& png)> page;
};

struct SheetResult {
  size_t pages = 0;
  uint64_t shown = 0;    // files on them
  uint64_t without = 0;  // of these: without a picture or text, as none could be made
  bool stopped = false;
  bool all_decoders = true;  // false: those of a module are not there (checking/preview.h)
};

// What was selected, in its order, but for files of which nothing is left. Nothing is exported for
// it; pictures are decoded in the box. Throws Error (incomplete) if there is no such file.
SheetResult make_sheets(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const SheetOptions& options);

}  // namespace undershelf
