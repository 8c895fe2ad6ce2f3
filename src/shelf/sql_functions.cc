#include "shelf/sql_functions.h"

#include <algorithm>
#include <cstring>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/text.h"
#include "shelf/glob.h"

namespace undershelf {
namespace {

unsigned char lower(unsigned char c) { return c >= 'A' && c <= 'Z' ? c + 32 : c; }
bool is_digit(unsigned char c) { return c >= '0' && c <= '9'; }

}  // namespace

int compare_by_parts(void*, int a_size, const void* a_data, int b_size, const void* b_data) {
  const std::span a(static_cast<const unsigned char*>(a_data), static_cast<size_t>(a_size));
  const std::span b(static_cast<const unsigned char*>(b_data), static_cast<size_t>(b_size));
  size_t i = 0;
  size_t j = 0;
  while (i < a.size() && j < b.size()) {
    if (is_digit(a[i]) && is_digit(b[j])) {
      while (i < a.size() && a[i] == '0') ++i;
      while (j < b.size() && b[j] == '0') ++j;
      size_t a_end = i;
      size_t b_end = j;
      while (a_end < a.size() && is_digit(a[a_end])) ++a_end;
      while (b_end < b.size() && is_digit(b[b_end])) ++b_end;
      if (a_end - i != b_end - j) return a_end - i < b_end - j ? -1 : 1;
      for (; i < a_end; ++i, ++j) {
        if (a[i] != b[j]) return a[i] < b[j] ? -1 : 1;
      }
      continue;
    }
    const unsigned char x = lower(a[i]);
    const unsigned char y = lower(b[j]);
    if (x != y) return x == '/' ? -1 : y == '/' ? 1 : x < y ? -1 : 1;
    ++i;
    ++j;
  }
  if (a.size() - i != b.size() - j) return a.size() - i < b.size() - j ? -1 : 1;
  const int bytes = std::memcmp(a.data(), b.data(), std::min(a.size(), b.size()));
  return bytes != 0 ? bytes : a_size - b_size;
}

namespace {

std::string_view text_of(sqlite3_value* value) {
  const auto* text = reinterpret_cast<const char*>(sqlite3_value_text(value));
  return {text == nullptr ? "" : text, static_cast<size_t>(sqlite3_value_bytes(value))};
}

}  // namespace

void contains_word(sqlite3_context* context, int, sqlite3_value** arguments) {
  const auto& words = *static_cast<const std::vector<std::string>*>(sqlite3_user_data(context));
  const std::string folded = fold_for_search(text_of(arguments[0]));
  const bool any = std::ranges::any_of(
      words, [&](const std::string& word) { return folded.find(word) != std::string::npos; });
  sqlite3_result_int(context, any ? 1 : 0);
}

void glob_matches(sqlite3_context* context, int, sqlite3_value** arguments) {
  const auto& globs = *static_cast<const std::vector<Glob>*>(sqlite3_user_data(context));
  const std::string_view view = text_of(arguments[0]);
  const bool any = std::ranges::any_of(globs, [&](const Glob& g) { return g.matches(view); });
  sqlite3_result_int(context, any ? 1 : 0);
}

}  // namespace undershelf
