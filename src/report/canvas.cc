#include "report/canvas.h"

#include <fmt/format.h>

#include "model/error.h"
#include "model/module.h"

namespace undershelf {
namespace {

std::string draw_by(const char* function, const std::function<void(Canvas&)>& draw) {
  void* const found = function_of_module(kDrawingModule, function);
  if (found == nullptr) {
    throw Error(
        Failure::unavailable,
        fmt::format("Nothing can be drawn: {} is not beside the program, or lacks a library. "
                    "Install Under Shelf anew.",
                    kDrawingModule));
  }
  std::string file;
  reinterpret_cast<Draw*>(found)(draw, file);
  return file;
}

}  // namespace

std::string Canvas::png(const std::function<void(Canvas&)>& draw) {
  return draw_by(kDrawPng, draw);
}
std::string Canvas::svg(const std::function<void(Canvas&)>& draw) {
  return draw_by(kDrawSvg, draw);
}

}  // namespace undershelf
