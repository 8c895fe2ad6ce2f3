#include "fs/hfsplus/found.h"

namespace undershelf::hfsplus {

void Found::add(const Trace& node, bool slack_only) {
  if (!nodes.empty()) {
    Nodes& last = nodes.back();
    if (last.trace.end() == node.offset && last.trace.number == node.number &&
        last.trace.other == node.other && last.slack_only == slack_only) {
      last.trace.length += node.length;
      return;
    }
  }
  nodes.push_back({node, slack_only});
}

void each_found(const Source& source, const Found& found, Tree tree,
                const std::function<void(std::span<const Bytes>)>& records,
                const std::function<void(Bytes)>& slack) {
  std::vector<std::byte> bytes;
  for (const Found::Nodes& nodes : found.nodes) {
    if (nodes.trace.number != tree) continue;
    bytes.resize(nodes.trace.other);
    for (uint64_t at = nodes.trace.offset; at < nodes.trace.end(); at += bytes.size()) {
      source.read(at, bytes);
      const NodeRecords node = records_of(bytes);
      records(nodes.slack_only ? std::span<const Bytes>{} : node.records);
      slack(node.slack);
    }
  }
}

void each_catalog_record(const Source& source, const Found& found,
                         const std::function<void(const CatalogRecord&)>& visit) {
  const Generations* generations = found.generations.get();
  const auto take = [&](const CatalogRecord& record, std::optional<size_t> generation) {
    if (found.older_than && !found.older_than->is_older(record)) return;
    if (generations == nullptr || generation.value_or(generations->count() - 1) == found.generation)
      visit(record);
  };
  std::optional<size_t> of_node;
  each_found(
      source, found, kCatalogTree,
      [&](std::span<const Bytes> records) {
        const std::vector<CatalogRecord> node = catalog_records(records);
        of_node = generations != nullptr ? generations->of_node(node) : std::nullopt;
        for (const CatalogRecord& record : node) take(record, of_node);
      },
      [&](Bytes slack) {
        each_stale(slack, [&](const CatalogRecord& record) {
          const auto own = generations != nullptr ? generations->of(record) : std::nullopt;
          take(record, own ? own : of_node);
        });
      });
}

}  // namespace undershelf::hfsplus
