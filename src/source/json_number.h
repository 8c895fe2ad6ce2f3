// Whole numbers of JSON that others may have written: nlohmann's own reading of them takes
// fractions and what is far too large, which is undefined.
#pragma once

#include <concepts>
#include <nlohmann/json.hpp>
#include <utility>

namespace undershelf {

// The number under that key of an object; `otherwise` if there is none. Throws nlohmann's
// json::exception if it is no whole number that T holds.
template <std::integral T>
T whole_number(const nlohmann::json& object, const char* key, T otherwise) {
  const auto found = object.find(key);
  if (found == object.end()) return otherwise;
  if (found->is_number_unsigned() && std::in_range<T>(found->get<uint64_t>())) {
    return static_cast<T>(found->get<uint64_t>());
  }
  if (found->is_number_integer() && !found->is_number_unsigned() &&
      std::in_range<T>(found->get<int64_t>())) {
    return static_cast<T>(found->get<int64_t>());
  }
  throw nlohmann::json::out_of_range::create(406, "no whole number of that size", nullptr);
}

}  // namespace undershelf
