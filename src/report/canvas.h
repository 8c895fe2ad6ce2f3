// A page to draw on, which becomes a PNG or an SVG. What draws is a module (model/module.h).
#pragma once

#include <cstddef>
#include <functional>
#include <memory>
#include <string>
#include <string_view>

#include "checking/picture.h"

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

  virtual ~Canvas() = default;
  virtual void rectangle(double x, double y, double width, double height, const Colour& colour) = 0;
  virtual void line(double x1, double y1, double x2, double y2, const Colour& colour) = 0;
  // One line of text; `x` is where it is aligned, `y` its upper edge. What is wider than `most` is
  // cut, and ends in three dots. Returns its width.
  virtual double text(double x, double y, std::string_view text, double size, const Colour& colour,
                      Align align = Align::left, double most = kWidth, bool bold = false) = 0;

  // A picture as it is, pixel by pixel.
  virtual void picture(double x, double y, const checking::Picture& picture) = 0;

  // Draws on an empty page, and writes it as an image; returns the file's content. Throws Error
  // (unavailable) if the module is not there.
  static std::string png(const std::function<void(Canvas&)>& draw);
  static std::string svg(const std::function<void(Canvas&)>& draw);
};

// The module, and the functions in it, which do what those of a canvas do.
constexpr const char* kDrawingModule = "undershelf-drawing.so";
constexpr const char* kDrawPng = "undershelf_draw_png";
constexpr const char* kDrawSvg = "undershelf_draw_svg";
using Draw = void(const std::function<void(Canvas&)>& draw, std::string& file);

}  // namespace undershelf
