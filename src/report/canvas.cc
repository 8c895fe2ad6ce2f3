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

cairo_t* cairo_of(void* context) { return static_cast<cairo_t*>(context); }

void set_colour(cairo_t* cairo, const Colour& colour) {
  cairo_set_source_rgb(cairo, colour.red, colour.green, colour.blue);
}

cairo_status_t append(void* to, const unsigned char* bytes, unsigned size) {
  static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(bytes), size);
  return CAIRO_STATUS_SUCCESS;
}

}  // namespace

void Canvas::rectangle(double x, double y, double width, double height, const Colour& colour) {
  cairo_t* const cairo = cairo_of(context_);
  set_colour(cairo, colour);
  cairo_rectangle(cairo, x, y, width, height);
  cairo_fill(cairo);
}

void Canvas::line(double x1, double y1, double x2, double y2, const Colour& colour) {
  cairo_t* const cairo = cairo_of(context_);
  set_colour(cairo, colour);
  cairo_set_line_width(cairo, 1);
  cairo_move_to(cairo, x1, y1);
  cairo_line_to(cairo, x2, y2);
  cairo_stroke(cairo);
}

double Canvas::text(double x, double y, std::string_view text, double size, const Colour& colour,
                    Align align, double most, bool bold) {
  cairo_t* const cairo = cairo_of(context_);
  const std::unique_ptr<PangoLayout, FreeLayout> layout(pango_cairo_create_layout(cairo));
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
  set_colour(cairo, colour);
  cairo_move_to(cairo, left, y);
  pango_cairo_show_layout(cairo, layout.get());
  return width;
}

void Canvas::picture(double x, double y, const checking::Preview& preview) {
  const std::unique_ptr<cairo_surface_t, FreeSurface> surface(cairo_image_surface_create(
      CAIRO_FORMAT_RGB24, static_cast<int>(preview.width), static_cast<int>(preview.height)));
  unsigned char* const data = cairo_image_surface_get_data(surface.get());
  if (data == nullptr) throw std::bad_alloc();
  const auto stride = static_cast<size_t>(cairo_image_surface_get_stride(surface.get()));
  for (size_t line = 0; line < preview.height; ++line) {
    for (size_t column = 0; column < preview.width; ++column) {
      const uint8_t* const pixel = &preview.pixels[(line * preview.width + column) * 3];
      const uint32_t value = uint32_t{pixel[0]} << 16 | uint32_t{pixel[1]} << 8 | pixel[2];
      std::memcpy(data + line * stride + column * 4, &value, sizeof value);
    }
  }
  cairo_surface_mark_dirty(surface.get());
  cairo_t* const cairo = cairo_of(context_);
  cairo_set_source_surface(cairo, surface.get(), x, y);
  cairo_paint(cairo);
}

std::string Canvas::png(const std::function<void(Canvas&)>& draw) {
  const std::unique_ptr<cairo_surface_t, FreeSurface> surface(cairo_image_surface_create(
      CAIRO_FORMAT_RGB24, static_cast<int>(kWidth), static_cast<int>(kHeight)));
  const std::unique_ptr<cairo_t, FreeContext> context(cairo_create(surface.get()));
  Canvas canvas(context.get());
  canvas.rectangle(0, 0, kWidth, kHeight, kPaper);
  draw(canvas);
  std::string file;
  if (cairo_surface_write_to_png_stream(surface.get(), append, &file) != CAIRO_STATUS_SUCCESS) {
    throw std::bad_alloc();
  }
  return file;
}

std::string Canvas::svg(const std::function<void(Canvas&)>& draw) {
  std::string file;
  {
    const std::unique_ptr<cairo_surface_t, FreeSurface> surface(
        cairo_svg_surface_create_for_stream(append, &file, kWidth, kHeight));
    cairo_svg_surface_set_document_unit(surface.get(), CAIRO_SVG_UNIT_PX);
    const std::unique_ptr<cairo_t, FreeContext> context(cairo_create(surface.get()));
    Canvas canvas(context.get());
    canvas.rectangle(0, 0, kWidth, kHeight, kPaper);
    draw(canvas);
    cairo_surface_finish(surface.get());
    if (cairo_status(context.get()) != CAIRO_STATUS_SUCCESS) throw std::bad_alloc();
  }
  return file;
}

}  // namespace undershelf
