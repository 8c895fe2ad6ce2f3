// Parts of the program whose libraries are many: each is a module beside it, loaded where it is
// wanted and nowhere else, as its libraries cost every command its start.
#pragma once

namespace undershelf {

// A function of a module by its file's name: where the program is built, and where it is installed.
// Null if the module is in neither, or cannot be loaded. It stays loaded: libraries do not like to
// be let go of.
void* function_of_module(const char* module, const char* function);

}  // namespace undershelf
