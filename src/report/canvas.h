// A page to draw on, which becomes a PNG or an SVG. By Cairo and Pango.
#pragma once

#include <cstddef>
#include <functional>
#include <memory>
#include <string>
#include <string_view>

#include "checking/preview.h"

namespace undershelf {

struct Colour {
  double red = 0, green = 0, blue = 0;  // 0 to 1
};

// What figures have in common.
constexpr Colour kInk{0.16, 0.17, 0.20};
constexpr Colour kFaint{0.45, 0.47, 0.50};
constexpr Colour kRule{0.84, 0.84, 0.82};
constexpr Colour kPaper{1, 1, 1};

// Lengths are pixels, from the upper left corner. Not to be shared between threads.
class Canvas {
 public:
  enum class Align { left, centre, right };
  static constexpr double kWidth = 1280, kHeight = 800;

  void rectangle(double x, double y, double width, double height, const Colour& colour);
  void line(double x1, double y1, double x2, double y2, const Colour& colour);
  // One line of text; `x` is where it is aligned, `y` its upper edge. What is wider than `most` is
  // cut, and ends in three dots. Returns its width.
  double text(double x, double y, std::string_view text, double size, const Colour& colour,
              Align align = Align::left, double most = kWidth, bool bold = false);

  // A picture as it is, pixel by pixel.
  void picture(double x, double y, const checking::Preview& preview);

  // Draws on an empty page, and writes it as an image; returns the file's content.
  static std::string png(const std::function<void(Canvas&)>& draw);
  static std::string svg(const std::function<void(Canvas&)>& draw);

 private:
  explicit Canvas(void* context) : context_(context) {}
  void* context_;  // a cairo_t
};

}  // namespace undershelf
