// Pages drawn by Cairo and Pango: a module (report/canvas.h).
#include "report/canvas.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <pango/pangocairo.h>

#include <cstring>
#include <new>

namespace undershelf {
namespace {

struct FreeSurface {
  void operator()(cairo_surface_t* surface) const { cairo_surface_destroy(surface); }
};
struct FreeContext {
  void operator()(cairo_t* context) const { cairo_destroy(context); }
};
struct FreeLayout {
  void operator()(PangoLayout* layout) const { g_object_unref(layout); }
};
struct FreeFont {
  void operator()(PangoFontDescription* font) const { pango_font_description_free(font); }
};

void set_colour(cairo_t* cairo, const Colour& colour) {
  cairo_set_source_rgb(cairo, colour.red, colour.green, colour.blue);
}

cairo_status_t append(void* to, const unsigned char* bytes, unsigned size) {
  static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(bytes), size);
  return CAIRO_STATUS_SUCCESS;
}

class CairoCanvas : public Canvas {
 public:
  explicit CairoCanvas(cairo_t* cairo) : cairo_(cairo) {}

  void rectangle(double x, double y, double width, double height, const Colour& colour) override {
    set_colour(cairo_, colour);
    cairo_rectangle(cairo_, x, y, width, height);
    cairo_fill(cairo_);
  }
  void line(double x1, double y1, double x2, double y2, const Colour& colour) override {
    set_colour(cairo_, colour);
    cairo_set_line_width(cairo_, 1);
    cairo_move_to(cairo_, x1, y1);
    cairo_line_to(cairo_, x2, y2);
    cairo_stroke(cairo_);
  }

  double text(double x, double y, std::string_view text, double size, const Colour& colour,
              Align align, double most, bool bold) override {
    const std::unique_ptr<PangoLayout, FreeLayout> layout(pango_cairo_create_layout(cairo_));
    const std::unique_ptr<PangoFontDescription, FreeFont> font(
        pango_font_description_from_string("DejaVu Sans"));
    pango_font_description_set_absolute_size(font.get(), size * PANGO_SCALE);
    if (bold) pango_font_description_set_weight(font.get(), PANGO_WEIGHT_BOLD);
    pango_layout_set_font_description(layout.get(), font.get());
    pango_layout_set_text(layout.get(), text.data(), static_cast<int>(text.size()));
    pango_layout_set_single_paragraph_mode(layout.get(), TRUE);
    int width = 0;
    pango_layout_get_pixel_size(layout.get(), &width, nullptr);
    if (width > most) {
      pango_layout_set_width(layout.get(), static_cast<int>(most * PANGO_SCALE));
      pango_layout_set_ellipsize(layout.get(), PANGO_ELLIPSIZE_MIDDLE);
      pango_layout_get_pixel_size(layout.get(), &width, nullptr);
    }
    const double left = align == Align::left    ? x
                        : align == Align::right ? x - width
                                                : x - width / 2.0;
    set_colour(cairo_, colour);
    cairo_move_to(cairo_, left, y);
    pango_cairo_show_layout(cairo_, layout.get());
    return width;
  }

  void picture(double x, double y, const checking::Picture& picture) override {
    const std::unique_ptr<cairo_surface_t, FreeSurface> surface(cairo_image_surface_create(
        CAIRO_FORMAT_RGB24, static_cast<int>(picture.width), static_cast<int>(picture.height)));
    unsigned char* const data = cairo_image_surface_get_data(surface.get());
    if (data == nullptr) throw std::bad_alloc();
    const auto stride = static_cast<size_t>(cairo_image_surface_get_stride(surface.get()));
    for (size_t line = 0; line < picture.height; ++line) {
      for (size_t column = 0; column < picture.width; ++column) {
        const uint8_t* const pixel = &picture.pixels[(line * picture.width + column) * 3];
        const uint32_t value = uint32_t{pixel[0]} << 16 | uint32_t{pixel[1]} << 8 | pixel[2];
        std::memcpy(data + line * stride + column * 4, &value, sizeof value);
      }
    }
    cairo_surface_mark_dirty(surface.get());
    cairo_set_source_surface(cairo_, surface.get(), x, y);
    cairo_paint(cairo_);
  }

 private:
  cairo_t* const cairo_;
};

void draw_png(const std::function<void(Canvas&)>& draw, std::string& file) {
  const std::unique_ptr<cairo_surface_t, FreeSurface> surface(cairo_image_surface_create(
      CAIRO_FORMAT_RGB24, static_cast<int>(Canvas::kWidth), static_cast<int>(Canvas::kHeight)));
  const std::unique_ptr<cairo_t, FreeContext> context(cairo_create(surface.get()));
  CairoCanvas canvas(context.get());
  canvas.rectangle(0, 0, Canvas::kWidth, Canvas::kHeight, kPaper);
  draw(canvas);
  if (cairo_surface_write_to_png_stream(surface.get(), append, &file) != CAIRO_STATUS_SUCCESS) {
    throw std::bad_alloc();
  }
}

void draw_svg(const std::function<void(Canvas&)>& draw, std::string& file) {
  {
    const std::unique_ptr<cairo_surface_t, FreeSurface> surface(
        cairo_svg_surface_create_for_stream(append, &file, Canvas::kWidth, Canvas::kHeight));
    cairo_svg_surface_set_document_unit(surface.get(), CAIRO_SVG_UNIT_PX);
    const std::unique_ptr<cairo_t, FreeContext> context(cairo_create(surface.get()));
    CairoCanvas canvas(context.get());
    canvas.rectangle(0, 0, Canvas::kWidth, Canvas::kHeight, kPaper);
    draw(canvas);
    cairo_surface_finish(surface.get());
    if (cairo_status(context.get()) != CAIRO_STATUS_SUCCESS) throw std::bad_alloc();
  }
}

}  // namespace
}  // namespace undershelf

extern "C" __attribute__((visibility("default"))) void undershelf_draw_png(
    const std::function<void(undershelf::Canvas&)>& draw, std::string& file) {
  undershelf::draw_png(draw, file);
}
extern "C" __attribute__((visibility("default"))) void undershelf_draw_svg(
    const std::function<void(undershelf::Canvas&)>& draw, std::string& file) {
  undershelf::draw_svg(draw, file);
}
