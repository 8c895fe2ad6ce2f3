// What formats are looked at through: bytes that may end anywhere and may have holes.
#pragma once

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <cstddef>
#include <cstdint>
#include <span>
#include <string_view>

namespace undershelf::content {

// Not to be shared between threads.
class Bytes {
 public:
  static constexpr size_t kMostAtOnce = 1 << 20;

  virtual ~Bytes() = default;
  virtual uint64_t size() const = 0;  // bytes
  // The bytes from `offset` on, at most `length` and kMostAtOnce; fewer where they end or a hole
  // begins. Good until the next call of any member.
  virtual std::span<const std::byte> at(uint64_t offset, size_t length) = 0;

  bool has(uint64_t offset, std::string_view mark) {
    const auto there = at(offset, mark.size());
    return there.size() == mark.size() &&
           std::string_view(reinterpret_cast<const char*>(there.data()), there.size()) == mark;
  }

  // Numbers; 0 where not all of one is there.
  uint8_t u8(uint64_t offset) { return number<uint8_t, boost::endian::order::little>(offset); }
  uint16_t le16(uint64_t at) { return number<uint16_t, boost::endian::order::little>(at); }
  uint32_t le32(uint64_t at) { return number<uint32_t, boost::endian::order::little>(at); }
  uint64_t le64(uint64_t at) { return number<uint64_t, boost::endian::order::little>(at); }
  uint16_t be16(uint64_t at) { return number<uint16_t, boost::endian::order::big>(at); }
  uint32_t be32(uint64_t at) { return number<uint32_t, boost::endian::order::big>(at); }
  uint64_t be64(uint64_t at) { return number<uint64_t, boost::endian::order::big>(at); }

 private:
  template <typename Number, boost::endian::order order>
  Number number(uint64_t offset) {
    const auto there = at(offset, sizeof(Number));
    if (there.size() < sizeof(Number)) return 0;
    return boost::endian::endian_load<Number, sizeof(Number), order>(
        reinterpret_cast<const unsigned char*>(there.data()));
  }
};

// How much to ask for at a time where it is not known how far one has to look: little at first, of
// which most was read with what lies before it, then more and more.
class GrowingLength {
 public:
  size_t next() {  // bytes
    const size_t now = next_;
    next_ = std::min(2 * next_, Bytes::kMostAtOnce);
    return now;
  }

 private:
  size_t next_ = 4096;
};

// `size` of others from byte `from` on, as if there were no more. Those must outlive it.
class PartOfBytes : public Bytes {
 public:
  PartOfBytes(Bytes& all, uint64_t from, uint64_t size) : all_(all), from_(from), size_(size) {}
  uint64_t size() const override { return size_; }
  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    if (offset >= size_) return {};
    return all_.at(from_ + offset, static_cast<size_t>(std::min<uint64_t>(length, size_ - offset)));
  }

 private:
  Bytes& all_;
  const uint64_t from_, size_;
};

// Bytes in memory, which must outlive it.
class MemoryBytes : public Bytes {
 public:
  explicit MemoryBytes(std::span<const std::byte> bytes) : bytes_(bytes) {}
  uint64_t size() const override { return bytes_.size(); }
  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    if (offset >= bytes_.size()) return {};
    const size_t there = bytes_.size() - static_cast<size_t>(offset);
    return bytes_.subspan(static_cast<size_t>(offset), std::min({length, there, kMostAtOnce}));
  }

 private:
  std::span<const std::byte> bytes_;
};

}  // namespace undershelf::content
