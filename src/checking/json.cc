// JSON as the standard has it (RFC 8259).
#include <nlohmann/json.hpp>
#include <string>

#include "checking/decoders.h"

namespace undershelf::checking {

content::Walk decode_json(content::Bytes& bytes, const content::Walk& structure) {
  constexpr uint64_t kMostBytes = 64 << 20;
  if (!structure.end || bytes.size() > kMostBytes) return structure;
  std::string text(bytes.size(), '\0');
  text.resize(read_into(bytes, 0, std::as_writable_bytes(std::span(text))));
  if (nlohmann::json::accept(text)) return structure;
  // Programs write what nearly is JSON, with comments and commas.
  return {content::Level::unknown, structure.sound_to, structure.end,
          "It is not JSON as the standard has it."};
}

}  // namespace undershelf::checking
