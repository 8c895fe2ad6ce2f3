#include "carving/names.h"

#include <fmt/format.h>

#include "content/walk.h"
#include "model/text.h"

namespace undershelf::carving {
namespace {

// What no name may hold on some system becomes a blank; blanks next to each other become one.
std::string made_safe(std::string_view text) {
  std::string safe;
  for (const char c : without_controls(text)) {
    const bool taken = std::string_view("/\\:*?\"<>|").find(c) != std::string_view::npos;
    const char kept = taken ? ' ' : c;
    if (kept == ' ' && (safe.empty() || safe.back() == ' ')) continue;
    safe += kept;
  }
  while (!safe.empty() && (safe.back() == ' ' || safe.back() == '.')) safe.pop_back();
  while (!safe.empty() && safe.front() == '.') safe.erase(0, 1);
  return safe;
}

std::string duration(uint64_t milliseconds) {
  const uint64_t seconds = (milliseconds + 500) / 1000;
  return seconds >= 60 ? fmt::format("{} min {} s", seconds / 60, seconds % 60)
                       : fmt::format("{} s", seconds);
}

}  // namespace

std::string name_of(const checking::Examined& found, uint64_t start) {
  const content::Description& says = found.says;
  const std::string_view format = found.format.data();
  std::string name;
  const auto add = [&](std::string_view text) {
    const std::string safe = made_safe(text);
    if (!safe.empty()) name += (name.empty() ? "" : " ") + safe;
  };
  constexpr size_t kMinutes = 16;  // characters of a date and time up to its minutes
  std::string made(says.made.get().substr(0, kMinutes));
  if (made.size() == kMinutes) made[13] = '.';
  add(made);
  const bool is_sung = content::type_of(format) == "audio";
  // Some programs put that where a title belongs.
  const std::string_view title = says.title.get() == "untitled" ? "" : says.title.get();
  if (is_sung && !says.author.empty() && !title.empty()) {
    add(fmt::format("{} - {}", says.author.get(), title));
  } else {
    add(title);
  }
  add(says.device.get());
  if (says.width > 0) add(fmt::format("{}x{}", says.width, says.height));
  if (name.empty() && says.milliseconds > 0) add(duration(says.milliseconds));
  // Dimensions alone tell no two pictures apart.
  const bool tells = !made.empty() || !title.empty();
  if (!tells) name = fmt::format("{}{}{}", start, name.empty() ? "" : " ", name);
  const std::string_view extension = content::extension_of(format);
  return to_nfc(fmt::format("{}.{}", name, extension));
}

}  // namespace undershelf::carving
