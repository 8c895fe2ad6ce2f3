// Why a stream is rated as it is.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "model/ids.h"

namespace undershelf {

class Shelf;

// The reasons for the stored verdict on stream `id`, one plain sentence each; none if it has none.
std::vector<std::string> reasons_of(const Shelf& shelf, StreamId id);

}  // namespace undershelf
