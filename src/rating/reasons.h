// Why a stream is rated as it is.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace undershelf {

class Shelf;

// The reasons for the stored verdict on stream `id`, one plain sentence each; none if it has none.
std::vector<std::string> reasons_of(const Shelf& shelf, int64_t id);

}  // namespace undershelf
