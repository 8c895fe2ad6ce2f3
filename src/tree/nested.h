// Volumes that lie inside a file: disk images that were kept on a volume, and lost with it.
#pragma once

namespace undershelf {

class Shelf;

// Notes for each former volume the lost file in which it lies: one that begins with it, or begins
// before it and is long enough to hold it. Repeatable; to be called once lost files are placed.
void mark_nested_volumes(Shelf& shelf);

}  // namespace undershelf
