// Which of its targets a fuzzer is called as.
#pragma once

#include <string_view>

namespace undershelf::fuzz {

// The word behind the last dash of the name it was called by.
std::string_view target_word();

}  // namespace undershelf::fuzz
