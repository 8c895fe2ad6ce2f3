// The entropy-coded data of a JPEG (ITU-T T.81, annexes F and G), decoded as far as its codes go:
// no picture is made of them. For the room's own use.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "content/bytes.h"

namespace undershelf::content {

// A Huffman table (C.2, F.2.2.3): for each length of code the first one, and its value.
struct JpegTable {
  std::array<int32_t, 17> last{};    // the largest code of each length; -1: none
  std::array<int32_t, 17> offset{};  // of a code's value from the code itself
  std::array<uint8_t, 256> values{};
  std::array<uint16_t, 256> fast{};  // by the next eight bits: length << 8 | value; 0: longer
};

struct JpegComponent {
  uint8_t id = 0, across = 1, down = 1;
  uint8_t steps = 0;               // the number of its table of quantization steps
  uint32_t wide = 0, high = 0;     // blocks that it has
  uint32_t stride = 0;             // blocks of a row, with those that only fill the last unit
  std::vector<uint64_t> non_zero;  // by block: coefficients known not to be zero, a bit each
};

// What changes from unit to unit.
struct JpegPlace {
  uint64_t at = 0;    // next byte of the file
  uint32_t bits = 0;  // read and not used, `count` of them
  int count = 0;
  uint32_t unit = 0;  // of the scan
  uint32_t end_run = 0;
  uint8_t restart = 0;              // the next one's number
  std::array<int32_t, 4> direct{};  // of each component, the last DC coefficient (F.2.2.1)
};

class JpegDecoder {
 public:
  explicit JpegDecoder(Bytes& bytes) : bytes_(&bytes) {}

  enum class State : uint8_t { going, ended, failed, unknown };
  State state() const { return state_; }
  uint64_t at() const { return place_.at; }

  // From here on the bytes behind `at` are those `gap` further on.
  void cut(uint64_t at, uint64_t gap) {
    cut_at_ = at;
    gap_ = gap;
    window_ = {};
  }

  // Reads heads up to the first scan. False if it is no JPEG of a known kind.
  bool begin() {
    place_.at = 2;
    next_scan();
    return state_ == State::going;
  }

  // Decodes on. `before_crossing` is told of a state from which the unit that crosses the boundary
  // of a cluster can be decoded anew.
  template <typename Told>
  void run(uint64_t cluster, uint64_t until, const Told& before_crossing) {
    while (state_ == State::going && place_.at < until) {
      const JpegPlace before = place_;
      const uint64_t boundary = (place_.at + cluster - 1) / cluster * cluster;
      // The heads behind the last unit of a scan change all.
      std::optional<JpegDecoder> whole;
      if (place_.unit + 1 == units_ && cut_at_ == UINT64_MAX) whole = *this;
      undo_.clear();
      const bool ok = unit();
      if (place_.at > boundary && cut_at_ == UINT64_MAX) {
        JpegDecoder then = whole ? std::move(*whole) : *this;
        then.place_ = before;
        then.state_ = State::going;
        then.window_ = {};
        if (whole) {
          then.undo_.clear();
        } else {
          then.roll_back();
        }
        before_crossing(boundary, std::move(then));
      }
      if (!ok) state_ = State::failed;
    }
  }

  // Whether a cut with `gap` at `at` leads to a code that is none, before much is decoded.
  // `reached`: how far it went. Leaves all as it was.
  bool fails_soon(uint64_t at, uint64_t gap, uint64_t& reached);

 private:
  void roll_back();
  struct Change {
    size_t component;
    size_t block;
    uint64_t before;
  };

  int byte();

  // One byte of entropy-coded data; false at a marker or the end.
  bool fill();

  bool take(int count, uint32_t& value);

  bool decode(const JpegTable* table, unsigned& value);

  // Heads, up to the next scan or the end mark.
  void next_scan();
  void fail() { state_ = State::failed; }

  bool head(int marker, uint64_t length);

  bool tables(const std::vector<uint8_t>& body);
  bool steps(const std::vector<uint8_t>& body);

  static void make_fast(JpegTable& table);

  bool frame(const std::vector<uint8_t>& body);

  bool scan(const std::vector<uint8_t>& body);

  // One unit of the scan, and what follows the last one.
  bool unit();

  bool restart();

  struct InScan {
    size_t component;
    const JpegTable* direct;
    const JpegTable* alternating;
  };

  // The next `size` bits as a signed value (F.2.2.1, EXTEND).
  bool signed_value(unsigned size, int32_t& value);
  // Whether samples of that precision can have such a coefficient `k`, with some room for encoders
  // that sharpen edges: what is another's soon has larger ones.
  bool can_be(const JpegComponent& component, unsigned k, int32_t value) const;

  bool block(const InScan& part, size_t at);

  bool direct(const InScan& part);

  bool coefficients(const InScan& part, unsigned from, uint64_t* known);

  // G.1.2.3: a bit for each coefficient that is known, new ones between them.
  bool refine(const JpegTable* table, uint64_t& known);

  Bytes* bytes_;
  std::span<const std::byte> window_;
  uint64_t window_at_ = 0;
  uint64_t cut_at_ = UINT64_MAX, gap_ = 0;
  State state_ = State::going;
  JpegPlace place_;
  std::array<std::array<std::shared_ptr<const JpegTable>, 4>, 2> tables_, keep_tables_;
  std::vector<JpegComponent> components_;
  std::vector<InScan> in_scan_;
  std::vector<Change> undo_;  // of the unit that is decoded
  uint32_t units_across_ = 0, units_down_ = 0, units_ = 0, restarts_ = 0;
  uint8_t across_ = 1, down_ = 1;
  std::array<std::array<uint16_t, 64>, 4> steps_{};  // in the order in which coefficients stand
  unsigned first_ = 0, last_ = 63, low_ = 0;         // low_: bits left to later scans
  int precision_ = 8;                                // bits of a sample
  bool progressive_ = false, refines_ = false;
  int scans_ = 0;
};

}  // namespace undershelf::content
