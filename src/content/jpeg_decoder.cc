#include "content/jpeg_decoder.h"

namespace undershelf::content {

bool JpegDecoder::fails_soon(uint64_t at, uint64_t gap, uint64_t& reached) {
  constexpr uint64_t kSoon = 32 << 10;  // bytes
  const JpegPlace before = place_;
  cut(at, gap);
  undo_.clear();
  while (state_ == State::going && place_.at < at + kSoon && place_.unit + 1 < units_) {
    if (!unit()) state_ = State::failed;
  }
  const bool failed = state_ == State::failed;
  reached = place_.at;
  place_ = before;
  state_ = State::going;
  cut(UINT64_MAX, 0);
  roll_back();
  return failed;
}

void JpegDecoder::roll_back() {
  for (; !undo_.empty(); undo_.pop_back()) {
    const Change& last = undo_.back();
    components_[last.component].non_zero[last.block] = last.before;
  }
}

int JpegDecoder::byte() {
  if (place_.at < window_at_ || place_.at >= window_at_ + window_.size()) {
    constexpr size_t kWindow = 4096;
    const bool behind = place_.at >= cut_at_;
    const uint64_t length = behind ? kWindow : std::min<uint64_t>(kWindow, cut_at_ - place_.at);
    window_ = bytes_->at(place_.at + (behind ? gap_ : 0), static_cast<size_t>(length));
    window_at_ = place_.at;
    if (window_.empty()) return -1;
  }
  return std::to_integer<int>(window_[static_cast<size_t>(place_.at++ - window_at_)]);
}

bool JpegDecoder::fill() {
  const int value = byte();
  if (value < 0) return false;
  if (value == 0xFF) {
    const int next = byte();
    if (next != 0) {
      place_.at -= next < 0 ? 1 : 2;
      return false;
    }
  }
  place_.bits = place_.bits << 8 | static_cast<uint32_t>(value);
  place_.count += 8;
  return true;
}

bool JpegDecoder::take(int count, uint32_t& value) {
  while (place_.count < count) {
    if (!fill()) return false;
  }
  place_.count -= count;
  value = place_.bits >> place_.count & ((1U << count) - 1);
  return true;
}

bool JpegDecoder::decode(const JpegTable* table, unsigned& value) {
  if (table == nullptr) return false;
  if (place_.count < 8) fill();
  if (place_.count >= 8) {
    const uint16_t found = table->fast[place_.bits >> (place_.count - 8) & 0xFF];
    if (found != 0) {
      place_.count -= found >> 8;
      value = found & 0xFF;
      return true;
    }
  }
  int32_t code = 0;
  for (int length = 1; length <= 16; ++length) {
    uint32_t bit = 0;
    if (!take(1, bit)) return false;
    code = code << 1 | static_cast<int32_t>(bit);
    if (code <= table->last[length]) {
      value = table->values[static_cast<size_t>(code + table->offset[length]) & 0xFF];
      return true;
    }
  }
  return false;
}

void JpegDecoder::next_scan() {
  for (;;) {
    int marker = byte();
    if (marker != 0xFF) return fail();
    while (marker == 0xFF) marker = byte();
    if (marker == 0xD9) {
      state_ = scans_ > 0 ? State::ended : State::failed;
      return;
    }
    const int high = byte();
    const int low = byte();
    const uint64_t length = high < 0 || low < 0 ? 0 : static_cast<uint64_t>(high << 8 | low);
    if (marker < 0xC0 || length < 2) return fail();
    const uint64_t end = place_.at + length - 2;
    const bool known = head(marker, length - 2);
    if (!known) return fail();
    if (state_ == State::unknown) return;
    place_.at = end;
    if (marker == 0xDA) break;
  }
  place_.bits = 0;
  place_.count = 0;
  place_.unit = place_.end_run = 0;
  place_.direct = {};
  place_.restart = 0;
  ++scans_;
  state_ = units_ > 0 ? State::going : State::failed;
}

bool JpegDecoder::head(int marker, uint64_t length) {
  std::vector<uint8_t> body;
  const bool wanted = marker == 0xC4 || marker == 0xDB || marker == 0xDD || marker == 0xDA ||
                      (marker >= 0xC0 && marker <= 0xCF && marker != 0xC8 && marker != 0xCC);
  if (!wanted) return true;
  for (uint64_t i = 0; i < length; ++i) {
    const int value = byte();
    if (value < 0) return false;
    body.push_back(static_cast<uint8_t>(value));
  }
  if (marker == 0xC4) return tables(body);
  if (marker == 0xDB) return steps(body);
  if (marker == 0xDD) {
    if (body.size() < 2) return false;
    restarts_ = static_cast<uint32_t>(body[0] << 8 | body[1]);
    return true;
  }
  if (marker == 0xDA) return scan(body);
  progressive_ = marker == 0xC2;
  if (marker > 0xC2) state_ = State::unknown;
  return frame(body);
}

bool JpegDecoder::frame(const std::vector<uint8_t>& body) {
  constexpr uint64_t kMostBlocks = 1 << 24;
  if (body.size() < 6) return false;
  precision_ = body[0];
  if (precision_ < 8 || precision_ > 12) return false;
  const uint32_t height = static_cast<uint32_t>(body[1] << 8 | body[2]);
  const uint32_t width = static_cast<uint32_t>(body[3] << 8 | body[4]);
  const size_t count = body[5];
  if (height == 0 || width == 0 || count == 0 || count > 4 || body.size() < 6 + 3 * count) {
    return false;
  }
  components_.assign(count, {});
  across_ = down_ = 1;
  for (size_t i = 0; i < count; ++i) {
    JpegComponent& one = components_[i];
    one.id = body[6 + 3 * i];
    one.across = body[7 + 3 * i] >> 4;
    one.down = body[7 + 3 * i] & 0xF;
    one.steps = body[8 + 3 * i] & 3;
    if (one.across == 0 || one.across > 4 || one.down == 0 || one.down > 4) return false;
    across_ = std::max(across_, one.across);
    down_ = std::max(down_, one.down);
  }
  const auto parts = [](uint32_t length, uint32_t part) { return (length + part - 1) / part; };
  units_across_ = parts(width, 8U * across_);
  units_down_ = parts(height, 8U * down_);
  uint64_t blocks = 0;
  for (JpegComponent& one : components_) {
    one.wide = parts(parts(width * one.across, across_), 8);
    one.high = parts(parts(height * one.down, down_), 8);
    one.stride = units_across_ * one.across;
    blocks += uint64_t{one.stride} * units_down_ * one.down;
    if (blocks > kMostBlocks) return false;
    if (progressive_) one.non_zero.assign(uint64_t{one.stride} * units_down_ * one.down, 0);
  }
  return true;
}

bool JpegDecoder::scan(const std::vector<uint8_t>& body) {
  if (body.empty() || components_.empty()) return false;
  const size_t count = body[0];
  if (count == 0 || count > components_.size() || body.size() < 4 + 2 * count) return false;
  in_scan_.clear();
  for (size_t i = 0; i < count; ++i) {
    size_t which = 0;
    while (which < components_.size() && components_[which].id != body[1 + 2 * i]) ++which;
    if (which == components_.size()) return false;
    const uint8_t chosen = body[2 + 2 * i];
    in_scan_.push_back({which, tables_[0][chosen >> 4 & 3].get(), tables_[1][chosen & 3].get()});
  }
  keep_tables_ = tables_;  // those that the scan points to
  first_ = progressive_ ? body[1 + 2 * count] : 0;
  last_ = progressive_ ? body[2 + 2 * count] : 63;
  refines_ = progressive_ && body[3 + 2 * count] >> 4 != 0;
  low_ = progressive_ ? body[3 + 2 * count] & 0xF : 0;
  if (first_ > last_ || last_ > 63 || (progressive_ && first_ > 0 && count > 1)) return false;
  const JpegComponent& one = components_[in_scan_[0].component];
  units_ = count > 1 ? units_across_ * units_down_ : one.wide * one.high;
  return true;
}

bool JpegDecoder::unit() {
  if (restarts_ > 0 && place_.unit > 0 && place_.unit % restarts_ == 0 && !restart()) return false;
  if (in_scan_.size() == 1) {
    const JpegComponent& one = components_[in_scan_[0].component];
    const size_t row = place_.unit / one.wide, column = place_.unit % one.wide;
    if (!block(in_scan_[0], row * one.stride + column)) return false;
  } else {
    const size_t row = place_.unit / units_across_, column = place_.unit % units_across_;
    for (const InScan& part : in_scan_) {
      const JpegComponent& one = components_[part.component];
      for (size_t y = 0; y < one.down; ++y) {
        for (size_t x = 0; x < one.across; ++x) {
          const size_t at = (row * one.down + y) * one.stride + column * one.across + x;
          if (!block(part, at)) return false;
        }
      }
    }
  }
  if (++place_.unit < units_) return true;
  if (place_.end_run > 0) return false;
  // Bits that fill the last byte are ones; a byte or two more may have been read ahead.
  place_.at -= static_cast<uint64_t>(place_.count / 8);
  const uint32_t left = place_.bits & ((1U << place_.count % 8) - 1);
  if (place_.count / 8 == 0 && left != (1U << place_.count % 8) - 1) return false;
  next_scan();
  return state_ != State::failed;
}

bool JpegDecoder::restart() {
  place_.at -= static_cast<uint64_t>(place_.count / 8);
  place_.bits = 0;
  place_.count = 0;
  int marker = byte();
  if (marker != 0xFF) return false;
  while (marker == 0xFF) marker = byte();
  if (marker != 0xD0 + place_.restart) return false;
  place_.restart = (place_.restart + 1) & 7;
  place_.end_run = 0;
  place_.direct = {};
  return true;
}

bool JpegDecoder::signed_value(unsigned size, int32_t& value) {
  uint32_t bits = 0;
  if (!take(static_cast<int>(size), bits)) return false;
  value = static_cast<int32_t>(bits);
  if (value < 1 << (size - 1)) value -= (1 << size) - 1;
  return true;
}

bool JpegDecoder::can_be(const JpegComponent& component, unsigned k, int32_t value) const {
  // Eight times the largest sample (A.3.3), and half as much again.
  const int64_t most = int64_t{1536} << (precision_ - 8);
  const int64_t step = steps_[component.steps][k];
  return std::abs(int64_t{value} << low_) * step <= most + (step << low_);
}

bool JpegDecoder::block(const InScan& part, size_t at) {
  if (!progressive_) {
    return direct(part) && coefficients(part, 1, nullptr);
  }
  uint32_t bit = 0;
  if (first_ == 0) return refines_ ? take(1, bit) : direct(part);
  std::vector<uint64_t>& known = components_[part.component].non_zero;
  if (at >= known.size()) return false;
  undo_.push_back({part.component, at, known[at]});
  return refines_ ? refine(part.alternating, known[at]) : coefficients(part, first_, &known[at]);
}

bool JpegDecoder::direct(const InScan& part) {
  constexpr unsigned kMostBits = 11;
  unsigned size = 0;
  int32_t change = 0;
  if (!decode(part.direct, size) || size > kMostBits) return false;
  if (size == 0) return true;
  if (!signed_value(size, change)) return false;
  int32_t& now = place_.direct[part.component];
  now += change;
  return can_be(components_[part.component], 0, now);
}

bool JpegDecoder::coefficients(const InScan& part, unsigned from, uint64_t* known) {
  if (place_.end_run > 0) {
    --place_.end_run;
    return true;
  }
  constexpr unsigned kMostBits = 10;
  uint32_t bits = 0;
  for (unsigned k = from; k <= last_;) {
    unsigned code = 0;
    if (!decode(part.alternating, code)) return false;
    const unsigned run = code >> 4, size = code & 0xF;
    if (size == 0 && run == 15) {
      k += 16;
      if (k > last_ + 1) return false;
      continue;
    }
    if (size == 0) {
      if (!progressive_) return run == 0;
      if (run > 0 && !take(static_cast<int>(run), bits)) return false;
      place_.end_run = (1U << run) + (run > 0 ? bits : 0) - 1;
      return true;
    }
    k += run;
    int32_t value = 0;
    if (k > last_ || size > kMostBits || !signed_value(size, value)) return false;
    if (!can_be(components_[part.component], k, value)) return false;
    if (known != nullptr) *known |= uint64_t{1} << k;
    ++k;
  }
  return true;
}

bool JpegDecoder::refine(const JpegTable* table, uint64_t& known) {
  unsigned k = first_;
  uint32_t bits = 0;
  const uint64_t before = known;
  const auto is_known = [&](unsigned i) { return (before >> i & 1) != 0; };
  while (place_.end_run == 0 && k <= last_) {
    unsigned code = 0;
    if (!decode(table, code)) return false;
    unsigned run = code >> 4;
    const unsigned size = code & 0xF;
    if (size > 1) return false;
    if (size == 1 && !take(1, bits)) return false;
    if (size == 0 && run < 15) {
      if (run > 0 && !take(static_cast<int>(run), bits)) return false;
      place_.end_run = (1U << run) + (run > 0 ? bits : 0);
      break;
    }
    for (; k <= last_; ++k) {
      if (is_known(k)) {
        if (!take(1, bits)) return false;
      } else if (run-- == 0) {
        break;
      }
    }
    if (size == 1) {
      if (k > last_) return false;
      known |= uint64_t{1} << k;
    }
    ++k;
  }
  if (place_.end_run == 0) return true;
  for (; k <= last_; ++k) {
    if (is_known(k) && !take(1, bits)) return false;
  }
  --place_.end_run;
  return true;
}

}  // namespace undershelf::content
