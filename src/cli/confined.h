// What a command may write to, given to the kernel to keep it to.
#pragma once

#include <string>
#include <vector>

namespace undershelf::cli {

// To be called before a source is opened: from here on the command can write to `targets` (files or
// folders that may not be there yet), what lies beside the files among them, and nothing else. Says
// so if the kernel cannot. The first call of a process counts, so that a command that runs others
// gives all of their targets.
void confine_to(const std::vector<std::string>& targets);

}  // namespace undershelf::cli
