// Words of calls that a user may type.
#pragma once

#include <string>

namespace undershelf {

// The argument as it must be written in a shell.
std::string shell_quoted(const std::string& text);

}  // namespace undershelf
