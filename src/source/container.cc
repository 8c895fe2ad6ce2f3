#include "source/container.h"

#include <fmt/format.h>

#include <array>
#include <boost/endian/conversion.hpp>
#include <cstring>
#include <string_view>

namespace undershelf {
namespace {

using namespace std::string_view_literals;

struct Mark {
  uint64_t at;  // bytes; from the end if `from_end`
  bool from_end;
  bool compressed;  // a copy that was packed, rather than a disk of a virtual machine
  std::string_view magic;
  std::string_view what;
};

constexpr std::array kMarks = {
    Mark{0, false, false, "QFI\xFB"sv, "a QCOW virtual disk"},
    Mark{0, false, false, "QED\0"sv, "a QED virtual disk"},
    Mark{0, false, false, "KDMV"sv, "a VMDK virtual disk"},
    Mark{0, false, false, "COWD"sv, "a VMDK virtual disk"},
    Mark{0, false, false, "# Disk DescriptorFile"sv, "the description of a VMDK virtual disk"},
    Mark{0, false, false, "vhdxfile"sv, "a VHDX virtual disk"},
    Mark{0, false, false, "conectix"sv, "a VHD virtual disk that grows"},
    Mark{0, false, false, "WithoutFreeSpace"sv, "a virtual disk that grows"},
    Mark{64, false, false, "\x7F\x10\xDA\xBE"sv, "a VDI virtual disk"},
    Mark{512, true, false, "koly"sv, "a UDIF disk image"},
    Mark{0, false, true, "\x1F\x8B\x08"sv, "a gzip file"},
    Mark{0, false, true, "BZh"sv, "a bzip2 file"},
    Mark{0, false, true, "\xFD\x37zXZ\0"sv, "an xz file"},
    Mark{0, false, true, "\x28\xB5\x2F\xFD"sv, "a Zstandard file"},
    Mark{0, false, true, "\x04\x22\x4D\x18"sv, "an LZ4 file"},
    Mark{0, false, true, "PK\x03\x04"sv, "a ZIP archive"},
    Mark{0, false, true, "7z\xBC\xAF\x27\x1C"sv, "a 7z archive"},
    Mark{0, false, true, "Rar!\x1A\x07"sv, "a RAR archive"},
};

bool stands(const Source& source, const Mark& mark) {
  std::array<std::byte, 32> bytes{};
  if (source.size() < mark.at + bytes.size()) return false;
  const uint64_t at = mark.from_end ? source.size() - mark.at : mark.at;
  return source.read(at, std::span(bytes).first(mark.magic.size())).ok() &&
         std::memcmp(bytes.data(), mark.magic.data(), mark.magic.size()) == 0;
}

// A VHD whose footer stands at its end only: a fixed one holds the disk as it is, a differencing
// one does not ("Virtual Hard Disk Image Format Specification", "Hard Disk Footer Format").
bool is_growing_vhd(const Source& source) {
  constexpr uint64_t kFooter = 512;
  constexpr uint64_t kDiskType = 60;
  constexpr uint32_t kFixed = 2;
  if (!stands(source, {kFooter, true, false, "conectix"sv, {}})) return false;
  std::array<unsigned char, 4> type{};
  source.read(source.size() - kFooter + kDiskType, std::as_writable_bytes(std::span(type)));
  return boost::endian::load_big_u32(type.data()) != kFixed;
}

}  // namespace

std::optional<std::string> container_advice(const Source& source, const std::string& path) {
  for (const Mark& mark : kMarks) {
    if (!stands(source, mark)) continue;
    if (mark.compressed) {
      return fmt::format(
          "{} is {}: if a copy of a disk is packed in it, it is not the disk itself. "
          "Unpack it first, and work on what comes out.",
          path, mark.what);
    }
    return fmt::format(
        "{} is {}, a container and not the disk itself. Convert it to a raw image "
        "first (qemu-img convert -O raw), and work on that.",
        path, mark.what);
  }
  if (is_growing_vhd(source)) {
    return fmt::format(
        "{} is a VHD virtual disk that rests on another file, and not the disk "
        "itself. Convert it to a raw image first (qemu-img convert -O raw), and work "
        "on that.",
        path);
  }
  return std::nullopt;
}

}  // namespace undershelf
