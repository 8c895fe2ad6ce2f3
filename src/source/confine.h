// The kernel keeps the program from writing to anything but what it has to write to.
#pragma once

#include <string>
#include <vector>

namespace undershelf {

// From here on this process, all its threads that begin later, and what it starts can make, change
// and remove files below the folders of `writable` (and write to those that are files), and nowhere
// else (Landlock); and can tell no device to discard, zero or be commanded past the kernel's own
// reads, nor mount, swap or load anything (seccomp). What is open already stays as it is. Paths
// that are not there are passed over. Cannot be undone; the first call of a process counts. Returns
// why the kernel cannot, for a sentence; empty if it does.
std::string confine_writing(const std::vector<std::string>& writable);

}  // namespace undershelf
