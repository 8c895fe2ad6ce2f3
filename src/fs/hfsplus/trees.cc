#include "fs/hfsplus/trees.h"

#include <fmt/format.h>

#include <algorithm>

#include "model/blank.h"

namespace undershelf::hfsplus {
namespace {

// What is wrong with a node that is no leaf; empty if nothing is.
std::string fault_of(Bytes node, std::string_view tree) {
  const bool other = looks_like_node(node, kIndexNode) || node[8] == std::byte{kMapNode};
  if (other || is_zeros(node)) return {};
  return fmt::format("A node of the {} is damaged.", tree);
}

}  // namespace

void each_record(BTree& tree, const PiecesSource& stream, const TreeVisitor& visitor) {
  tree.each([&](uint64_t number, BTree::Use use, Bytes node) {
    visitor.on_node();
    const uint64_t begin = number * tree.node_size();
    const bool used = use == BTree::Use::used;
    const auto tell = [&](std::string what) {
      if (!visitor.on_damage || what.empty()) return;
      visitor.on_damage({stream.place_of(begin).value_or(0), node.size()}, std::move(what));
    };
    if (use == BTree::Use::unreadable) {
      tell(fmt::format("A node of the {} cannot be read.", visitor.name));
      return true;
    }
    if (!looks_like_node(node, kLeafNode)) {
      if (used) tell(fault_of(node, visitor.name));
      visitor.on_stale(node);
      return true;
    }
    const NodeRecords found = records_of(node);
    if (used && !found.sound) {
      tell(fmt::format("Records of a node of the {} overlap or lead outside it.", visitor.name));
    }
    for (const Bytes record : found.records) {
      if (used) {
        visitor.on_record(record, begin + static_cast<uint64_t>(record.data() - node.data()));
      } else {
        visitor.on_stale(record);
      }
    }
    visitor.on_stale(found.slack);
    return true;
  });
}

void add_stale_extents(Bytes bytes, Overflow& overflow) {
  constexpr size_t kLength = sizeof(ExtentKey) + sizeof(ExtentRecord::extents);
  for (size_t at = 0; at + kLength <= bytes.size();) {
    const auto record = parse_extents(bytes.subspan(at), true);
    if (record) overflow.add(*record);
    at += record ? kLength : 2;
  }
}

void add_stale_attributes(Bytes bytes, Attributes& attributes) {
  for (size_t at = 0; at + sizeof(AttributeKey) < bytes.size(); at += 2) {
    auto record = parse_attribute(bytes.subspan(at), true);
    if (!record || record->file < kFirstUser) continue;
    auto& known = attributes[record->file];
    const auto block = [](const AttributeRecord& r) {
      return r.extents ? r.extents->start_block : 0;
    };
    const bool told = std::ranges::any_of(known, [&](const AttributeRecord& r) {
      return r.name == record->name && block(r) == block(*record);
    });
    if (!told) known.push_back(std::move(*record));
  }
}

void read_found_tables(const Source& source, const Found& found, Tables& tables) {
  each_found(
      source, found, kExtentsTree,
      [&](std::span<const Bytes> records) {
        for (const Bytes bytes : records) {
          if (const auto record = parse_extents(bytes, false)) tables.overflow.add(*record);
        }
      },
      [&](Bytes bytes) { add_stale_extents(bytes, tables.stale_overflow); });
  each_found(
      source, found, kAttributesTree,
      [&](std::span<const Bytes> records) {
        for (const Bytes bytes : records) {
          if (auto record = parse_attribute(bytes, false)) {
            tables.attributes[record->file].push_back(std::move(*record));
          }
        }
      },
      [&](Bytes bytes) { add_stale_attributes(bytes, tables.stale_attributes); });
}

}  // namespace undershelf::hfsplus
