// One family of formats on hostile bytes: walks, and what decodes them, must end and stay inside.
#include <algorithm>
#include <array>
#include <cstdlib>

#include "checking/decoders.h"
#include "checking/examine.h"
#include "content/families.h"
#include "target.h"

namespace {

using namespace undershelf;

struct Named {
  std::string_view word;
  const content::Family* family;
};
constexpr std::array kFamilies = {Named{"png", &content::kPng},
                                  Named{"jpeg", &content::kJpeg},
                                  Named{"gif", &content::kGif},
                                  Named{"bmp", &content::kBmp},
                                  Named{"tiff", &content::kTiff},
                                  Named{"psd", &content::kPsd},
                                  Named{"isobmff", &content::kIsobmff},
                                  Named{"riff", &content::kRiff},
                                  Named{"matroska", &content::kMatroska},
                                  Named{"asf", &content::kAsf},
                                  Named{"mpeg", &content::kMpeg},
                                  Named{"flac", &content::kFlac},
                                  Named{"ogg", &content::kOgg},
                                  Named{"mpegaudio", &content::kMpegAudio},
                                  Named{"zip", &content::kZip},
                                  Named{"packed", &content::kPacked},
                                  Named{"tar", &content::kTar},
                                  Named{"ar", &content::kAr},
                                  Named{"discimage", &content::kDiscImage},
                                  Named{"compound", &content::kCompound},
                                  Named{"pdf", &content::kPdf},
                                  Named{"sqlite", &content::kSqlite},
                                  Named{"text", &content::kText},
                                  Named{"program", &content::kProgram},
                                  Named{"font", &content::kFont}};

const content::Family& family() {
  static const auto* const named = std::ranges::find(kFamilies, fuzz::target_word(), &Named::word);
  if (named == kFamilies.end()) std::abort();
  return *named->family;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  content::MemoryBytes bytes(std::as_bytes(std::span(data, size)));
  const std::string_view format = family().recognise(bytes);
  if (format.empty()) return 0;
  if (content::known_format(format).empty()) std::abort();
  const content::Walk walk = family().walk(bytes, format);
  if (walk.level == content::Level::broken && walk.why.empty()) std::abort();
  if (walk.end && *walk.end > size + 65536) std::abort();
  const checking::Decoder decoder = checking::decoder_for(format);
  if (walk.level != content::Level::broken && decoder != nullptr) decoder(bytes, walk);
  const content::Recognised recognised{format, &family()};
  const content::Walk open = content::walk_open(bytes, recognised);
  if (open.level == content::Level::broken && open.why.empty()) std::abort();
  content::Description says;
  content::describe(bytes, recognised, says);
  checking::describe_packed(bytes, format, says);
  return 0;
}
