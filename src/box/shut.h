// A process that shuts itself in: from then on it holds two pipes, and can do nothing but compute.
// What decodes bytes off a disk runs in such processes (checking/box.h, stream/unpacker.h).
#pragma once

#include <cstddef>
#include <cstdint>

namespace undershelf::box {

// Exit code of a process that the system does not let give up what it must.
constexpr int kNoBox = 70;

// For a process just forked, which ends with kNoBox if it cannot be shut in. Closes all files but
// the pipes `in` and `out`; no new privileges; no system calls but for memory, those two and the
// end; at most `memory` bytes more of address space than it has (not under sanitizers).
void shut(int in, int out, uint64_t memory);

// For the parent of such processes: what is written to one that died is told by `write`, and ends
// nobody.
void tell_broken_pipes_by_errors();

// From and to the pipes, once it is shut in. False at the end of what comes; where nobody takes
// what is written, the process ends.
bool read_all(void* data, size_t length);
void write_all(const void* data, size_t length);

}  // namespace undershelf::box
