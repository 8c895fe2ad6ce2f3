// What queries of the shelf ask of SQLite beyond its own functions.
#pragma once

#include <sqlite3.h>

namespace undershelf {

// A collation for paths: in the order of a tree, a folder, then what is in it, then its next
// sibling. Numbers count as such, and letters of ASCII are alike in both cases unless nothing else
// differs.
int compare_by_parts(void*, int a_size, const void* a_data, int b_size, const void* b_data);

// SQL function glob_matches(text): whether any of the globs it was registered with, a
// std::vector<Glob>, matches.
void glob_matches(sqlite3_context* context, int count, sqlite3_value** arguments);

// SQL function contains_word(text): whether it has any of the texts in it that the function was
// registered with, a std::vector<std::string>, all folded for search.
void contains_word(sqlite3_context* context, int count, sqlite3_value** arguments);

}  // namespace undershelf
