#include "shelf/line.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "model/text.h"
#include "shelf/selection.h"

namespace undershelf {

void append_json_string(std::string& out, std::string_view text) {
  const auto plain = [](char c) { return c >= 0x20 && c < 0x7F && c != '"' && c != '\\'; };
  out += '"';
  if (std::ranges::all_of(text, plain)) {
    out += text;
  } else {
    const std::string quoted =
        nlohmann::json(text).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
    // What JSON may hold as it is, but a terminal had better not.
    escape_steering(std::string_view(quoted).substr(1, quoted.size() - 2), "\\u{:04x}", out);
  }
  out += '"';
}

void Line::begin() {
  line_.clear();
  first_ = true;
  if (form_ == Form::json) line_ += '{';
}

void Line::key(std::string_view name) {
  if (form_ == Form::json) {
    line_.append(first_ ? "\"" : ",\"", first_ ? 1 : 2).append(name).append("\":", 2);
    first_ = false;
    return;
  }
  if (!first_) line_ += ',';
  first_ = false;
  if (form_ == Form::csv_header) {
    line_ += name;
  }
}

void Line::cell(std::string_view value) {
  std::string escaped;
  if (form_ == Form::csv_terminal) {
    escaped = printable(value);
    value = escaped;
  }
  if (value.find_first_of(",\"\r\n") == std::string_view::npos) {
    line_ += value;
    return;
  }
  line_ += '"';
  for (const char c : value) {
    if (c == '"') line_ += c;
    line_ += c;
  }
  line_ += '"';
}

void Line::text(std::string_view name, std::string_view value) {
  key(name);
  if (form_ == Form::json) {
    append_json_string(line_, value);
  } else if (form_ != Form::csv_header) {
    cell(value);
  }
}

void Line::text(std::string_view name, const std::optional<std::string>& value) {
  if (value) {
    text(name, std::string_view(*value));
  } else {
    null(name);
  }
}

void Line::number(std::string_view name, int64_t value) {
  key(name);
  if (form_ == Form::csv_header) return;
  const fmt::format_int digits(value);
  line_.append(digits.data(), digits.size());
}

void Line::boolean(std::string_view name, bool value) {
  key(name);
  if (form_ != Form::csv_header) line_ += value ? "true" : "false";
}

void Line::time(std::string_view name, const std::optional<Time>& value) {
  if (!value) return null(name);
  key(name);
  if (form_ == Form::csv_header) return;
  if (form_ == Form::json) line_ += '"';
  append_rfc3339(line_, *value);
  if (form_ == Form::json) line_ += '"';
}

void Line::list(std::string_view name, const std::vector<std::string>& values) {
  key(name);
  if (form_ == Form::json) {
    line_ += '[';
    for (size_t i = 0; i < values.size(); ++i) {
      if (i > 0) line_ += ',';
      append_json_string(line_, values[i]);
    }
    line_ += ']';
  } else if (form_ != Form::csv_header) {
    cell(fmt::format("{}", fmt::join(values, "\n")));
  }
}

void Line::null(std::string_view name) {
  key(name);
  if (form_ == Form::json) line_ += "null";
}

void Line::raw(std::string_view name, std::string_view json) {
  key(name);
  if (form_ == Form::json) line_ += json;
  if (form_ == Form::csv || form_ == Form::csv_terminal) cell(json);
}

const std::string& Line::end() {
  // A terminal adds the CR itself.
  line_ += form_ == Form::json ? "}\n" : form_ == Form::csv_terminal ? "\n" : "\r\n";
  return line_;
}

void add_fields(Line& line, const Row& row, std::string_view sha256) {
  line.number("id", number_of(row.id));
  line.number("volume", row.volume);
  line.text("path", row.path);
  line.boolean("path_exact", row.path_exact);
  line.boolean("link", row.link);
  line.text("name", row.name);
  line.text("kind", row.kind);
  line.text("stream", row.stream);
  line.text("state", row.state);
  line.boolean("marked_deleted", row.marked_deleted);
  line.boolean("trashed", row.trashed);
  line.number("size", row.size);
  line.time("created", row.created);
  line.time("modified", row.modified);
  line.time("accessed", row.accessed);
  line.time("deleted", row.deleted);
  line.text("original_path", row.original_path);
  line.list("former_paths", row.former_paths);
  line.text("type", row.type);
  line.text("format", row.format);
  line.boolean("encrypted", row.encrypted);
  line.text("placement", row.placement);
  line.text("check", row.check);
  line.text("sha256", sha256.empty() ? row.sha256 : std::optional(std::string(sha256)));
  line.text("rating", row.rating);
  line.number("score", row.score);
  line.number("intact_bytes", row.intact_bytes);
  if (row.raw_name.empty()) {
    line.null("raw_name");
  } else {
    line.text("raw_name", to_hex(row.raw_name));
  }
}

}  // namespace undershelf
