#include "mounting/view.h"

#include <algorithm>
#include <numeric>
#include <unordered_map>
#include <utility>

#include "access/apple_double.h"

namespace undershelf {
namespace {

// Collects nodes in the order of rows, in which a folder may come after what is in it.
class Collector {
 public:
  explicit Collector(std::vector<View::Node>& nodes) : nodes_(nodes) {
    nodes_.emplace_back().folder = true;
    folders_.emplace("", 0);
  }

  // `path`: without a slash behind it.
  uint32_t folder(const std::string& path) {
    const auto known = folders_.find(path);
    if (known != folders_.end()) return known->second;
    const uint32_t index = add(path);
    nodes_[index].folder = true;
    folders_.emplace(path, index);
    return index;
  }

  uint32_t add(const std::string& path) {
    const size_t slash = path.rfind('/');
    const uint32_t parent = slash == std::string::npos ? 0 : folder(path.substr(0, slash));
    View::Node& node = nodes_.emplace_back();
    node.name = slash == std::string::npos ? path : path.substr(slash + 1);
    node.parent = parent;
    return static_cast<uint32_t>(nodes_.size() - 1);
  }

 private:
  std::vector<View::Node>& nodes_;
  std::unordered_map<std::string, uint32_t> folders_;
};

}  // namespace

View::View(const Shelf& shelf, const Selection& selection, const PathRules& rules, bool even_gone) {
  const WrittenPaths paths(shelf, selection, rules);
  const uint64_t head = apple_double_head({}, 0).size();
  Collector collector(nodes_);
  each_place(shelf, selection, [&](const Row& row) {
    if (row.is_folder()) {
      std::string path = paths.of(row);
      if (path.ends_with('/')) path.pop_back();
      Node& node = nodes_[collector.folder(path)];
      node.entry = row.id;
      node.modified = row.modified;
      node.accessed = row.accessed;
      return true;
    }
    if (row.rating == "gone" && !even_gone) return true;
    Node& node = nodes_[collector.add(paths.of(row))];
    node.entry = row.id;
    node.stream = row.stream_id;
    node.is_double = is_double(row, rules);
    node.size = row.size.value_or(0) + (node.is_double ? head : 0);
    node.modified = row.modified;
    node.accessed = row.accessed;
    ++sum_.files;
    sum_.bytes += node.size;
    return true;
  });
  order();
}

// Puts the children of each folder together, by name.
void View::order() {
  std::vector<uint32_t> order(nodes_.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin() + 1, order.end(), [&](uint32_t a, uint32_t b) {
    return std::pair(nodes_[a].parent, std::string_view(nodes_[a].name)) <
           std::pair(nodes_[b].parent, std::string_view(nodes_[b].name));
  });
  std::vector<uint32_t> place(nodes_.size());
  for (uint32_t i = 0; i < order.size(); ++i) place[order[i]] = i;
  std::vector<Node> ordered;
  ordered.reserve(nodes_.size());
  for (const uint32_t index : order) {
    Node& node = ordered.emplace_back(std::move(nodes_[index]));
    node.parent = place[node.parent];
  }
  for (uint32_t i = 1; i < ordered.size(); ++i) {
    Node& parent = ordered[ordered[i].parent];
    if (parent.end == 0) parent.first = i;
    parent.end = i + 1;
  }
  nodes_ = std::move(ordered);
}

std::optional<uint32_t> View::child(uint32_t folder, std::string_view name) const {
  const auto begin = nodes_.begin() + nodes_[folder].first;
  const auto end = nodes_.begin() + nodes_[folder].end;
  const auto found = std::lower_bound(begin, end, name, [](const Node& node, std::string_view to) {
    return std::string_view(node.name) < to;
  });
  if (found == end || found->name != name) return std::nullopt;
  return static_cast<uint32_t>(found - nodes_.begin());
}

}  // namespace undershelf
