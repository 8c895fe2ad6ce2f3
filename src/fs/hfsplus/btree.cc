#include "fs/hfsplus/btree.h"

#include <algorithm>
#include <bit>
#include <boost/endian/conversion.hpp>
#include <set>

namespace undershelf::hfsplus {
namespace {

uint16_t u16_at(Bytes bytes, size_t offset) {
  return boost::endian::load_big_u16(reinterpret_cast<const unsigned char*>(bytes.data()) + offset);
}

}  // namespace

std::u16string utf16_at(Bytes bytes, uint64_t offset, size_t units) {
  std::u16string text;
  if (offset > bytes.size()) return text;
  units = std::min<size_t>(units, (bytes.size() - offset) / 2);
  for (size_t i = 0; i < units; ++i) {
    text.push_back(static_cast<char16_t>(u16_at(bytes, offset + 2 * i)));
  }
  return text;
}

bool looks_like_node(Bytes node, u8 kind) {
  const auto head = load<NodeDescriptor>(node);
  if (!head || head->kind != kind || head->reserved.value() != 0) return false;
  if (kind == kLeafNode ? head->height != 1 : head->height < 2 || head->height > 16) return false;
  const size_t records = head->numRecords.value();
  return records > 0 && (records + 1) * 2 + sizeof(NodeDescriptor) <= node.size() &&
         u16_at(node, node.size() - 2) == sizeof(NodeDescriptor);
}

NodeRecords records_of(Bytes node) {
  NodeRecords found;
  const auto head = load<NodeDescriptor>(node);
  const size_t count = head->numRecords.value();
  const size_t table = node.size() - std::min(node.size(), 2 * (count + 1));
  size_t end = sizeof(NodeDescriptor);
  if (table < end) {
    found.sound = false;
    found.slack = node.subspan(end);
    return found;
  }
  for (size_t i = 0; i < count; ++i) {
    const size_t begin = u16_at(node, node.size() - 2 * (i + 1));
    const size_t next = u16_at(node, node.size() - 2 * (i + 2));
    if (begin < end || next <= begin || next > table) {
      found.sound = false;
      continue;
    }
    found.records.push_back(node.subspan(begin, next - begin));
    end = next;
  }
  found.slack = node.subspan(end, table - end);
  return found;
}

BTree::BTree(SourcePtr stream) : stream_(std::move(stream)) {
  std::vector<std::byte> first(sizeof(NodeDescriptor) + sizeof(HeaderRecord));
  const bool readable = stream_->size() >= first.size() && stream_->read(0, first).ok();
  const auto head = load<NodeDescriptor>(first);
  const auto header = load<HeaderRecord>(first, sizeof(NodeDescriptor));
  node_size_ = header->nodeSize.value();
  header_sound_ = readable && head->kind == kHeaderNode && std::has_single_bit(node_size_) &&
                  node_size_ >= 512 && node_size_ <= 32768;
  if (header_sound_) {
    load_map();
    return;
  }
  // Nodes are the same all over the file: the size at which most of the first ones look like nodes.
  size_t most = 0;
  node_size_ = 4096;
  for (const size_t size : {512UL, 1024UL, 2048UL, 4096UL, 8192UL, 16384UL, 32768UL}) {
    size_t nodes = 0;
    std::vector<std::byte> node(size);
    for (uint64_t i = 1; i <= 64 && (i + 1) * size <= stream_->size(); ++i) {
      stream_->read(i * size, node);
      nodes += looks_like_node(node, kLeafNode);
    }
    if (nodes > most) {
      most = nodes;
      node_size_ = size;
    }
  }
}

// The map begins in the header node's third record and goes on in map nodes.
void BTree::load_map() {
  std::vector<std::byte> node(node_size_);
  std::set<uint32_t> seen;
  for (uint32_t number = 0; seen.insert(number).second && number < node_count();) {
    if (!stream_->read(uint64_t{number} * node_size_, node).ok()) break;
    const auto head = load<NodeDescriptor>(node);
    if (number != 0 && head->kind != kMapNode) break;
    const NodeRecords found = records_of(node);
    if (found.records.empty()) break;
    const Bytes bits = found.records.back();
    map_.insert(map_.end(), bits.begin(), bits.end());
    number = head->fLink.value();
    if (number == 0 || map_.size() * 8 >= node_count()) break;
  }
  // The header node itself is always in use.
  if (map_.empty() || (map_[0] & std::byte{0x80}) == std::byte{0}) map_.clear();
}

void BTree::each(const std::function<bool(uint64_t, Use, Bytes)>& visit) {
  const size_t per_block = std::max<size_t>(1, (1 << 20) / node_size_);
  std::vector<std::byte> block(per_block * node_size_);
  for (uint64_t first = 0; first < node_count(); first += per_block) {
    const uint64_t nodes = std::min<uint64_t>(per_block, node_count() - first);
    const auto bytes = std::span(block).first(nodes * node_size_);
    const ReadResult result = stream_->read(first * node_size_, bytes);
    for (uint64_t i = 0; i < nodes; ++i) {
      const uint64_t number = first + i;
      if (number == 0 && header_sound_) continue;
      const ByteRange range{number * node_size_, node_size_};
      const bool bad = std::ranges::any_of(
          result.bad, [&](const ByteRange& b) { return overlap(b, range).length > 0; });
      const bool marked =
          number / 8 >= map_.size()
              ? number < used_
              : (map_[number / 8] & (std::byte{0x80} >> number % 8)) != std::byte{0};
      if (!visit(number,
                 bad      ? Use::unreadable
                 : marked ? Use::used
                          : Use::free,
                 bytes.subspan(i * node_size_, node_size_)))
        return;
    }
  }
}

}  // namespace undershelf::hfsplus
