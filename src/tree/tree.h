// Joins entries into trees.
#pragma once

namespace undershelf {

class Shelf;

// Finds the parents that were not known when an entry was pushed, and works out the path of every
// folder. An entry whose folder is unknown, or lies inside itself, becomes an orphan. Repeatable.
void build_tree(Shelf& shelf);

}  // namespace undershelf
