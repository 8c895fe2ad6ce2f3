// Small helpers for reading rows of the shelf. For the library's own use.
#pragma once

#include <SQLiteCpp/Column.h>
#include <SQLiteCpp/Statement.h>

#include <algorithm>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/ids.h"
#include "model/pieces.h"
#include "model/time.h"

namespace undershelf {

// Of a blob; valid until the row is left.
inline std::string_view bytes_of(const SQLite::Column& column) {
  const auto* data = static_cast<const char*>(column.getBlob());
  if (data == nullptr) return {};
  return {data, static_cast<size_t>(column.getBytes())};
}

// The pieces in a column; a damaged value reads as none.
inline Pieces pieces_of(const SQLite::Column& column) {
  return unpack(bytes_of(column)).value_or(Pieces{});
}

// Bytes, or a number of things. The shelf holds them below 2^63, so that the sum of two is a
// number, too; a damaged one that is negative reads as 0.
inline uint64_t size_of(const SQLite::Column& column) {
  return static_cast<uint64_t>(std::max(column.getInt64(), int64_t{0}));
}

inline std::optional<uint64_t> maybe_size(const SQLite::Column& column) {
  if (column.isNull()) return std::nullopt;
  return size_of(column);
}

// Of model/ids.h.
template <typename Id>
Id id_of(const SQLite::Column& column) {
  return static_cast<Id>(column.getInt64());
}

template <typename Id>
std::optional<Id> maybe_id(const SQLite::Column& column) {
  if (column.isNull()) return std::nullopt;
  return id_of<Id>(column);
}

inline std::optional<Time> maybe_time(const SQLite::Column& column) {
  if (column.isNull()) return std::nullopt;
  return Time{column.getInt64()};
}

inline std::optional<std::string> maybe_text(const SQLite::Column& column) {
  if (column.isNull()) return std::nullopt;
  return column.getString();
}

// Into text whose memory is used again.
inline void read_text(const SQLite::Column& column, std::string& out) {
  out.assign(column.getText(), static_cast<size_t>(column.getBytes()));
}

inline void read_text(const SQLite::Column& column, std::optional<std::string>& out) {
  if (column.isNull()) return out.reset();
  read_text(column, out ? *out : out.emplace());
}

// The columns of all rows of one statement, for loops over many: to make one anew for each cell
// takes as long as to read it.
class Columns {
 public:
  explicit Columns(SQLite::Statement& statement) : statement_(statement) {
    columns_.reserve(static_cast<size_t>(statement.getColumnCount()));  // references last
  }
  // Of the row that the statement stands at. Precondition: there is one.
  const SQLite::Column& operator[](int index) {
    while (static_cast<int>(columns_.size()) <= index) {
      columns_.push_back(statement_.getColumn(static_cast<int>(columns_.size())));
    }
    return columns_[static_cast<size_t>(index)];
  }

 private:
  SQLite::Statement& statement_;
  std::vector<SQLite::Column> columns_;
};

}  // namespace undershelf
