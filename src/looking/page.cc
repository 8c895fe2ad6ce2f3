#include <poppler-document.h>
#include <poppler-global.h>
#include <poppler-image.h>
#include <poppler-page-renderer.h>
#include <poppler-page.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <string>
#include <vector>

#include "looking/decode.h"

namespace undershelf::looking {
namespace {

constexpr double kPointsAnInch = 72;  // ISO 32000-1, 8.3.2.3
constexpr double kMostAnInch = 300;   // pixels

}  // namespace

checking::Picture decode_page(content::Bytes& bytes, uint32_t wanted) {
  if (!bytes.has(0, "%PDF-")) return {};
  const std::vector<uint8_t> file = whole(bytes);
  poppler::set_debug_error_function([](const std::string&, void*) {}, nullptr);
  const std::unique_ptr<poppler::document> document(poppler::document::load_from_raw_data(
      reinterpret_cast<const char*>(file.data()), static_cast<int>(file.size())));
  if (document == nullptr || document->is_locked() || document->pages() < 1) return {};
  const std::unique_ptr<poppler::page> page(document->create_page(0));
  if (page == nullptr) return {};
  const poppler::rectf size = page->page_rect(poppler::crop_box);
  const double longer = std::max(size.width(), size.height());
  if (!(longer >= 1) || !(size.width() > 0) || !(size.height() > 0)) return {};
  const double an_inch = std::min(kMostAnInch, kPointsAnInch * wanted / longer);
  poppler::page_renderer renderer;
  renderer.set_render_hint(poppler::page_renderer::antialiasing, true);
  renderer.set_render_hint(poppler::page_renderer::text_antialiasing, true);
  renderer.set_image_format(poppler::image::format_rgb24);
  const poppler::image image = renderer.render_page(page.get(), an_inch, an_inch);
  checking::Picture picture;
  const auto most = uint64_t{wanted} * wanted * 2;
  if (!image.is_valid() ||
      !picture.make_room(static_cast<uint64_t>(std::max(0, image.width())),
                         static_cast<uint64_t>(std::max(0, image.height())), most)) {
    return {};
  }
  picture.full_width = picture.full_height = 0;
  const auto line = static_cast<size_t>(picture.width) * 3;
  for (size_t y = 0; y < picture.height; ++y) {
    const char* from = image.const_data() + y * static_cast<size_t>(image.bytes_per_row());
    std::copy_n(reinterpret_cast<const uint8_t*>(from), line, &picture.pixels[y * line]);
  }
  return picture;
}

}  // namespace undershelf::looking
