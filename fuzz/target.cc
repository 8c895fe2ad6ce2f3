#include "target.h"

namespace {
std::string_view called_as;
}  // namespace

// libFuzzer calls it before all else.
extern "C" int LLVMFuzzerInitialize(int* /*count*/, char*** arguments) {
  called_as = **arguments;
  return 0;
}

namespace undershelf::fuzz {

std::string_view target_word() { return called_as.substr(called_as.rfind('-') + 1); }

}  // namespace undershelf::fuzz
