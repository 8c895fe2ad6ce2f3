// A selection as a read-only folder (FUSE, libfuse 3).
#pragma once

#include <functional>
#include <string>

#include "mounting/view.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf {

struct MountOptions {
  std::string directory;  // an empty folder
  bool even_gone = false;
  // Missing bytes read as zeros; else reading them is an error (EIO), and what stands before them
  // in a file can be read.
  bool fill = false;
  std::function<void(const View::Sum&)> mounted = [](const View::Sum&) {};
};

// Shows the selection until it is unmounted, or SIGINT, SIGTERM or SIGHUP comes. Nothing can be
// written, and no file is executable. `open_source` is called once it is mounted, and may confine
// the process. Throws Error (unavailable) if it cannot be mounted, refused if the folder is none or
// not empty, incomplete if there is nothing to show, and what `open_source` throws. One at a time
// in a process, which must have no other threads yet.
void mount_selection(const Shelf& shelf, const std::function<SourcePtr()>& open_source,
                     const Selection& selection, const MountOptions& options);

}  // namespace undershelf
