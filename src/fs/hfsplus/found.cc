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
  const VolumeAge* age = found.older_than ? &*found.older_than : nullptr;
  const auto take = [&](const CatalogRecord& record, bool older, std::optional<size_t> generation) {
    if (older && (generations == nullptr ||
                  generation.value_or(generations->count() - 1) == found.generation)) {
      visit(record);
    }
  };
  // All that is in a node is of one volume; what stands behind may be of several.
  std::optional<bool> node_older;
  std::optional<size_t> of_node;
  each_found(
      source, found, kCatalogTree,
      [&](std::span<const Bytes> bytes) {
        const std::vector<CatalogRecord> records = catalog_records(bytes);
        node_older = age != nullptr ? age->are_older(records) : true;
        of_node = generations != nullptr ? generations->of_node(records) : std::nullopt;
        for (const CatalogRecord& record : records) {
          take(record, node_older ? *node_older : age->is_older(record), of_node);
        }
      },
      [&](Bytes bytes) {
        std::vector<CatalogRecord> records;
        each_stale(bytes, [&](const CatalogRecord& record) { records.push_back(record); });
        const bool all_older =
            age == nullptr || age->are_older(records).value_or(node_older.value_or(false));
        std::optional<size_t> of_all;
        if (generations != nullptr) {
          of_all = generations->of_stale(records, of_node.value_or(generations->count() - 1));
        }
        for (const CatalogRecord& record : records) {
          // Threads have no dates: they go by what lies beside them, or by a record of their name.
          const auto own = generations != nullptr ? generations->of(record) : std::nullopt;
          const bool older =
              age == nullptr || age->is_older(record) || (record.is_thread() && (all_older || own));
          take(record, older, own ? own : of_all);
        }
      });
}

}  // namespace undershelf::hfsplus
