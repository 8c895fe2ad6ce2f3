#include "source/container.h"

#include <fmt/format.h>

#include <array>
#include <boost/endian/conversion.hpp>
#include <cstring>
#include <string_view>

#include "model/shell.h"

namespace undershelf {
namespace {

using namespace std::string_view_literals;

struct Mark {
  uint64_t at;  // bytes; from the end if `from_end`
  bool from_end;
  bool compressed;  // a copy that was packed, rather than a disk of a virtual machine
  std::string_view magic;
  std::string_view what;
  std::string_view server;  // what a server calls it that shows the disk itself; empty: none does
};

// The call of a server that shows the disk in a container as a network block device.
std::string served(std::string_view format, bool compressed, const std::string& path) {
  const std::string call =
      compressed ? fmt::format("nbdkit --readonly --unix /tmp/disk.sock --filter={} file {}",
                               format, shell_quoted(path))
                 : fmt::format(
                       "qemu-nbd --read-only --persistent --fork --format {} --socket "
                       "/tmp/disk.sock {}",
                       format, shell_quoted(path));
  return fmt::format(
      "Serve the disk itself, `{}`, and give nbd+unix:///?socket=/tmp/disk.sock as the source, or "
      "{} "
      "first",
      call, compressed ? "unpack it" : "convert it to a raw image");
}

constexpr std::array kMarks = {
    Mark{0, false, false, "QFI\xFB"sv, "a QCOW virtual disk", "qcow2"},
    Mark{0, false, false, "QED\0"sv, "a QED virtual disk", "qed"},
    Mark{0, false, false, "KDMV"sv, "a VMDK virtual disk", "vmdk"},
    Mark{0, false, false, "COWD"sv, "a VMDK virtual disk", "vmdk"},
    Mark{0, false, false, "# Disk DescriptorFile"sv, "the description of a VMDK virtual disk",
         "vmdk"},
    Mark{0, false, false, "vhdxfile"sv, "a VHDX virtual disk", "vhdx"},
    Mark{0, false, false, "conectix"sv, "a VHD virtual disk that grows", "vpc"},
    Mark{0, false, false, "WithoutFreeSpace"sv, "a virtual disk that grows", "parallels"},
    Mark{64, false, false, "\x7F\x10\xDA\xBE"sv, "a VDI virtual disk", "vdi"},
    Mark{512, true, false, "koly"sv, "a UDIF disk image", "dmg"},
    Mark{0, false, true, "\x1F\x8B\x08"sv, "a gzip file", "gzip"},
    Mark{0, false, true, "BZh"sv, "a bzip2 file", ""},
    Mark{0, false, true, "\xFD\x37zXZ\0"sv, "an xz file", "xz"},
    Mark{0, false, true, "\x28\xB5\x2F\xFD"sv, "a Zstandard file", ""},
    Mark{0, false, true, "\x04\x22\x4D\x18"sv, "an LZ4 file", ""},
    Mark{0, false, true, "PK\x03\x04"sv, "a ZIP archive", ""},
    Mark{0, false, true, "7z\xBC\xAF\x27\x1C"sv, "a 7z archive", ""},
    Mark{0, false, true, "Rar!\x1A\x07"sv, "a RAR archive", ""},
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
  if (!stands(source, {kFooter, true, false, "conectix"sv, {}, {}})) return false;
  std::array<unsigned char, 4> type{};
  source.read(source.size() - kFooter + kDiskType, std::as_writable_bytes(std::span(type)));
  return boost::endian::load_big_u32(type.data()) != kFixed;
}

}  // namespace

std::optional<std::string> container_advice(const Source& source, const std::string& what,
                                            const std::string& file) {
  for (const Mark& mark : kMarks) {
    if (!stands(source, mark)) continue;
    if (mark.compressed) {
      return fmt::format(
          "{} is {}: if a copy of a disk is packed in it, it is not the disk itself. {}.", what,
          mark.what,
          mark.server.empty() ? "Unpack it first, and work on what comes out"
                              : served(mark.server, true, file));
    }
    return fmt::format("{} is {}, a container and not the disk itself. {}.", what, mark.what,
                       served(mark.server, false, file));
  }
  if (is_growing_vhd(source)) {
    return fmt::format(
        "{} is a VHD virtual disk that rests on another file, and not the disk itself. "
        "{}.",
        what, served("vpc", false, file));
  }
  return std::nullopt;
}

}  // namespace undershelf
