// Numbers in the words that users are told them in.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace undershelf {

// "1 file", "2 files".
std::string counted(uint64_t number, std::string_view noun);
std::string table_size(uint64_t bytes);  // 4.5 MiB; below 1 KiB: 17 B

}  // namespace undershelf
