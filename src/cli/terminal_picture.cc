#include "cli/terminal_picture.h"

#include <poll.h>
#include <sixel.h>
#include <sys/ioctl.h>
#include <termios.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <new>
#include <string_view>
#include <vector>

namespace undershelf::cli {
namespace {

constexpr int kPatience = 500;                        // milliseconds
constexpr uint32_t kMostAcross = 1000;                // pixels
constexpr uint32_t kCellWidth = 8, kCellHeight = 16;  // where the terminal does not say it

// The terminal without echo and lines, as long as this lives.
class Asking {
 public:
  Asking() : good_(::tcgetattr(STDIN_FILENO, &before_) == 0) {
    termios now = before_;
    now.c_lflag &= ~static_cast<tcflag_t>(ICANON | ECHO);
    now.c_cc[VMIN] = 0;
    now.c_cc[VTIME] = 0;
    good_ = good_ && ::tcsetattr(STDIN_FILENO, TCSANOW, &now) == 0;
  }
  ~Asking() {
    if (good_) ::tcsetattr(STDIN_FILENO, TCSANOW, &before_);
  }
  Asking(const Asking&) = delete;
  Asking& operator=(const Asking&) = delete;

  // Up to and with `last`; empty if it does not come.
  std::string answer(std::string_view question, char last) {
    if (!good_ || ::write(STDOUT_FILENO, question.data(), question.size()) !=
                      static_cast<ssize_t>(question.size())) {
      return {};
    }
    std::string text;
    pollfd input{STDIN_FILENO, POLLIN, 0};
    char byte = 0;
    while (text.size() < 256 && ::poll(&input, 1, kPatience) == 1 &&
           ::read(STDIN_FILENO, &byte, 1) == 1) {
      text += byte;
      if (byte == last) return text;
    }
    return {};
  }

 private:
  termios before_{};
  bool good_;
};

// Whether `answer`, ESC [ ? 6 2 ; 4 ; ... c, has that number among its parameters behind the first.
bool announces(std::string_view answer, int wanted) {
  const size_t begin = answer.find('?');
  if (begin == answer.npos) return false;
  std::string_view rest = answer.substr(begin + 1);
  for (size_t at = rest.find(';'); at != rest.npos; at = rest.find(';')) {
    rest.remove_prefix(at + 1);
    int number = -1;
    std::from_chars(rest.data(), rest.data() + rest.size(), number);
    if (number == wanted) return true;
  }
  return false;
}

int append(char* data, int size, void* text) {
  static_cast<std::string*>(text)->append(data, static_cast<size_t>(size));
  return size;
}

}  // namespace

std::pair<uint32_t, uint32_t> picture_room() {
  winsize size{};
  if (::isatty(STDIN_FILENO) == 0 || ::isatty(STDOUT_FILENO) == 0 ||
      ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0) {
    return {0, 0};
  }
  constexpr int kSixelGraphics = 4;
  if (!announces(Asking().answer("\x1B[c", 'c'), kSixelGraphics)) return {0, 0};
  const uint32_t across = size.ws_xpixel > 0 ? size.ws_xpixel : size.ws_col * kCellWidth;
  const uint32_t down = size.ws_ypixel > 0 ? size.ws_ypixel : size.ws_row * kCellHeight;
  // What is said below it should still be on the screen.
  return {std::min(across, kMostAcross), down * 2 / 3};
}

std::string sixels_of(const checking::Preview& preview) {
  std::string text;
  sixel_output_t* output = nullptr;
  sixel_dither_t* dither = nullptr;
  const auto width = static_cast<int>(preview.width);
  const auto height = static_cast<int>(preview.height);
  std::vector<uint8_t> pixels = preview.pixels;  // it works in place
  bool good = SIXEL_SUCCEEDED(sixel_output_new(&output, append, &text, nullptr)) &&
              SIXEL_SUCCEEDED(sixel_dither_new(&dither, 256, nullptr)) &&
              SIXEL_SUCCEEDED(sixel_dither_initialize(dither, pixels.data(), width, height,
                                                      SIXEL_PIXELFORMAT_RGB888, SIXEL_LARGE_AUTO,
                                                      SIXEL_REP_AUTO, SIXEL_QUALITY_AUTO)) &&
              SIXEL_SUCCEEDED(sixel_encode(pixels.data(), width, height, 3, dither, output));
  if (dither != nullptr) sixel_dither_unref(dither);
  if (output != nullptr) sixel_output_unref(output);
  if (!good) throw std::bad_alloc();
  return text;
}

}  // namespace undershelf::cli
