#include "fs/hfsplus/hard_links.h"

#include <string_view>

#include "fs/hfsplus/entries.h"

namespace undershelf::hfsplus {
namespace {

constexpr std::u16string_view kPrivateFiles{u"\0\0\0\0HFS+ Private Data", 21};
constexpr std::u16string_view kPrivateFolders = u".HFS+ Private Directory Data\r";

}  // namespace

bool is_link(const CatalogRecord& record) { return HardLinks::target_of(record).has_value(); }

std::optional<HardLinks::Target> HardLinks::target_of(const CatalogRecord& record) {
  if (record.type != kFile) return std::nullopt;
  const uint32_t type = record.file.fdType.value();
  const uint32_t creator = record.file.fdCreator.value();
  const uint32_t number = record.file.permissions.special.value();
  if (type == kHardLinkType && creator == kHardLinkCreator) return Target{false, number};
  if (type == kFolderLinkType && creator == kFolderLinkCreator) return Target{true, number};
  return std::nullopt;
}

// The number of the content that a file or folder in the private folders is.
std::optional<HardLinks::Target> HardLinks::content_number(const CatalogRecord& record) const {
  const bool folder = record.type == kFolder;
  const uint32_t home = folder ? private_folders_ : private_files_;
  const std::u16string_view prefix = folder ? u"dir_" : u"iNode";
  if (home == 0 || record.parent != home || !record.name.starts_with(prefix)) return std::nullopt;
  uint32_t number = 0;
  for (const char16_t c : record.name.substr(prefix.size())) {
    if (c < u'0' || c > u'9') return std::nullopt;
    number = number * 10 + (c - u'0');
  }
  return Target{folder, number};
}

void HardLinks::note(const CatalogRecord& record, const PlacedName& name) {
  if (record.type == kFolder && name.parent == kRoot) {
    if (name.name == kPrivateFiles) private_files_ = record.cnid();
    if (name.name == kPrivateFolders) private_folders_ = record.cnid();
  }
  if (const auto target = target_of(record)) links_[*target].push_back({name, record.cnid()});
}

void HardLinks::note_stale(const CatalogRecord& record, const PlacedName& name) {
  if (const auto target = target_of(record)) stale_[*target].push_back({name, record.cnid()});
}

void HardLinks::take_names(Entry& entry, const std::vector<Link>& links) {
  set_name(entry, links.front().name);
  for (size_t i = 1; i < links.size(); ++i) {
    entry.other_names.push_back(other_name(OtherName::Kind::link, links[i].name));
  }
}

bool HardLinks::name_content(Entry& entry, const CatalogRecord& record) {
  const std::optional<Target> number = content_number(record);
  if (!number) return false;
  const auto links = links_.find(*number);
  const auto stale = stale_.find(*number);
  const bool is_linked = links != links_.end();
  // Where no link leads to it any more, one may have.
  if (!is_linked && stale == stale_.end()) return false;
  entry.other_names.clear();
  take_names(entry, is_linked ? links->second : stale->second);
  if (is_linked) named_.insert(*number);
  if (is_linked && stale != stale_.end()) {
    for (const Link& link : stale->second) {
      entry.other_names.push_back(other_name(OtherName::Kind::former, link.name));
    }
  }
  if (stale != stale_.end()) stale_.erase(stale);
  return true;
}

bool HardLinks::is_private(const CatalogRecord& record) const {
  if (record.parent == private_files_ || record.parent == private_folders_) return true;
  return record.parent == kRoot &&
         (record.name == kPrivateFiles || record.name == kPrivateFolders ||
          record.name == u".journal" || record.name == u".journal_info_block");
}

Entry HardLinks::lost_link(const Target& target, const std::vector<Link>& links) {
  Entry entry;
  entry.key = links.front().cnid;
  entry.kind = target.first ? Kind::folder : Kind::file;
  take_names(entry, links);
  entry.evidence.push_back({"link-content-lost", target.second});
  entry.streams.emplace_back();
  entry.streams.back().size_known = false;
  return entry;
}

std::vector<Entry> HardLinks::lost() const {
  std::vector<Entry> entries;
  for (const auto& [target, links] : links_) {
    if (!named_.contains(target)) entries.push_back(lost_link(target, links));
  }
  return entries;
}

std::vector<Entry> HardLinks::lost_stale() const {
  std::vector<Entry> entries;
  for (const auto& [target, links] : stale_) {
    entries.push_back(lost_link(target, links));
    entries.back().state = State::deleted;
    entries.back().proof = Proof::old;
  }
  return entries;
}

}  // namespace undershelf::hfsplus
