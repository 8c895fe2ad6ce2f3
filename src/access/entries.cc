#include "access/entries.h"

#include <algorithm>
#include <string_view>

#include "shelf/shelf.h"

namespace undershelf {
namespace {

std::string_view without_slashes(std::string_view path) {
  while (path.starts_with('/')) path.remove_prefix(1);
  while (path.ends_with('/')) path.remove_suffix(1);
  return path;
}

}  // namespace

std::vector<Row> entries_at(const Shelf& shelf, const std::string& path) {
  Selection selection;
  selection.paths = {path};
  selection.system = true;
  selection.with_contents = false;
  const std::string_view wanted = without_slashes(path);
  std::vector<Row> same, others;
  each_row(shelf, selection, [&](const Row& row) {
    (row.path == wanted ? same : others).push_back(row);
    return true;
  });
  std::vector<Row>& found = same.empty() ? others : same;
  std::ranges::sort(found, {}, &Row::id);
  found.erase(std::unique(found.begin(), found.end(),
                          [](const Row& a, const Row& b) { return a.id == b.id; }),
              found.end());
  return std::move(found);
}

void each_child(const Shelf& shelf, EntryId folder, const std::function<bool(const Row&)>& visit) {
  Selection selection;
  selection.parents = {folder};
  selection.system = true;
  selection.secondary = false;
  selection.sort = "name";
  each_row(shelf, selection, visit);
}

}  // namespace undershelf
