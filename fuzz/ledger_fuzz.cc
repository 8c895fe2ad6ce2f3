// A ledger's file, as anybody may have written it.
#include <cstdlib>
#include <sstream>

#include "model/error.h"
#include "source/ledger.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  std::istringstream file(std::string(reinterpret_cast<const char*>(data), size));
  try {
    const Ledger ledger = Ledger::parse(file, "a ledger");
    const uint64_t length = ledger.header().size;
    // Every byte has one state.
    uint64_t at = 0;
    for (const Noted& noted : ledger.in({0, length})) {
      if (noted.range.offset != at) std::abort();
      at = noted.range.end();
    }
    if (at != length) std::abort();
    std::istringstream again(ledger.text());
    const Ledger same = Ledger::parse(again, "the same");
    for (const auto state :
         {Finding::State::read, Finding::State::failed, Finding::State::skipped}) {
      if (same.bytes(state) != ledger.bytes(state)) std::abort();
    }
  } catch (const Error&) {
    // One sentence.
  }
  return 0;
}
