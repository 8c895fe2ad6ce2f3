#include "scan/images.h"

#include <algorithm>
#include <array>
#include <string_view>

#include "model/text.h"

namespace undershelf {
namespace {

constexpr uint64_t kLeastImage = 65536;  // bytes: smaller ones hold no volume
// Sectors as they are on the disk; then containers, of which the user is told.
constexpr std::array<std::string_view, 13> kEndings = {
    ".img", ".ima",  ".image", ".dd",  ".vfd",   ".floppy", ".hdd",
    ".vhd", ".vhdx", ".vmdk",  ".vdi", ".qcow2", ".dmg"};

bool is_named_as_image(const std::string& name) {
  constexpr size_t kMostEnding = 7;
  const size_t dot = name.rfind('.');
  if (dot == std::string::npos || name.size() - dot > kMostEnding) return false;
  return std::ranges::find(kEndings, fold_case(name.substr(dot))) != kEndings.end();
}

// Whether the place of all of a stream is recorded, and its bytes can be read.
bool is_readable(const Stream& stream) {
  const bool decodable = stream.encoding == Encoding::plain || stream.codec != Codec::none;
  return stream.name.empty() && stream.size >= kLeastImage && !stream.open &&
         stream.placement == Placement::exact && decodable;
}

}  // namespace

EntryId ImageNoter::add(const Entry& entry) {
  const EntryId id = to_.add(entry);
  const bool image = entry.state == State::live && entry.kind == Kind::file && !entry.system &&
                     std::ranges::any_of(entry.streams, is_readable) &&
                     is_named_as_image(entry.name.text);
  if (image) images_.push_back(id);
  return id;
}

}  // namespace undershelf
