#include "model/trace.h"

#include "model/varint.h"

namespace undershelf {

std::string pack(std::span<const Trace> traces) {
  std::string out;
  Trace last;
  for (const Trace& trace : traces) {
    put_varint(out, trace.kind);
    put_varint(out, zigzag(trace.offset - last.offset));
    put_varint(out, trace.length);
    put_varint(out, zigzag(trace.number - last.number));
    put_varint(out, trace.other);
    last = trace;
  }
  return out;
}

std::optional<std::vector<Trace>> unpack_traces(std::string_view packed) {
  std::vector<Trace> traces;
  Trace trace;
  while (!packed.empty()) {
    uint64_t kind = 0, offset = 0, number = 0;
    if (!take_varint(packed, kind) || !take_varint(packed, offset) ||
        !take_varint(packed, trace.length) || !take_varint(packed, number) ||
        !take_varint(packed, trace.other) || kind > UINT32_MAX) {
      return std::nullopt;
    }
    trace.kind = static_cast<uint32_t>(kind);
    trace.offset += from_zigzag(offset);
    trace.number += from_zigzag(number);
    traces.push_back(trace);
  }
  return traces;
}

}  // namespace undershelf
