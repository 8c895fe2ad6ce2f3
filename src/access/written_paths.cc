#include "access/written_paths.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <tuple>
#include <unordered_set>

#include "access/apple_double.h"
#include "model/text.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

// A row among the others: an entry has one for each of its streams and further names.
uint64_t hash_of_row(const Row& row, const std::string& true_path) {
  return std::hash<std::string>()(
      fmt::format("{} {} {}", number_of(row.id), number_of(row.stream_id), true_path));
}

struct Path {
  std::string_view folder, name;  // the folder's without a slash at its end
};

Path split(std::string_view path) {
  const size_t slash = path.rfind('/');
  if (slash == std::string_view::npos) return {{}, path};
  return {path.substr(0, slash), path.substr(slash + 1)};
}

}  // namespace

bool is_double(const Row& row, const PathRules& rules) {
  return rules.forks_in_doubles && row.stream && *row.stream == "resource-fork";
}

WrittenPaths::WrittenPaths(const Shelf& shelf, const Selection& selection, const PathRules& rules,
                           const std::function<void(const Row&)>& visit)
    : rules_(rules) {
  for (const VolumeRecord& record : shelf.volumes(false)) {
    std::string label = record.volume.label;
    std::ranges::replace(label, '/', '_');  // it is one name, not a path
    volumes_[record.id] = fmt::format("volume-{}{}{}", record.id, label.empty() ? "" : "-", label);
  }
  std::vector<Hash> files;
  std::unordered_set<Hash> folders;
  std::string last;  // folder whose path is in `folders`
  each_place(shelf, selection, [&](const Row& row) {
    visit(row);
    if (row.is_folder() && rules_.layout != FolderLayout::tree) return true;
    const std::string path = plain(row, true_path(row));
    const bool is_folder = path.ends_with('/');
    if (!is_folder) files.push_back(hash_of(path));
    std::string folder = path.substr(0, path.rfind('/') + 1);
    if (folder == last) return true;
    for (size_t end = folder.find('/'); end != std::string::npos; end = folder.find('/', end + 1)) {
      if (last.compare(0, end + 1, folder, 0, end + 1) == 0) continue;
      folders.insert(hash_of(folder.substr(0, end)));
    }
    last = std::move(folder);
    return true;
  });
  std::ranges::sort(files);
  name_colliding(shelf, selection, files, folders);
}

void WrittenPaths::name_colliding(const Shelf& shelf, const Selection& selection,
                                  const std::vector<Hash>& files,
                                  const std::unordered_set<Hash>& folders) {
  const auto is_folder = [&](Hash hash) { return folders.contains(hash); };
  std::unordered_set<Hash> colliding;
  for (size_t i = 0; i < files.size(); ++i) {
    if ((i > 0 && files[i] == files[i - 1]) || is_folder(files[i])) colliding.insert(files[i]);
  }
  if (colliding.empty()) return;

  struct Rival {
    Hash plain_hash, row_hash;
    EntryId id;
    StreamId stream;
    std::string path;  // plain
  };
  std::vector<Rival> rivals;
  each_place(shelf, selection, [&](const Row& row) {
    if (row.is_folder()) return true;
    const std::string wanted = true_path(row);
    std::string path = plain(row, wanted);
    const Hash hash = hash_of(path);
    if (colliding.contains(hash)) {
      rivals.push_back({hash, hash_of_row(row, wanted), row.id, row.stream_id, std::move(path)});
    }
    return true;
  });
  std::ranges::sort(rivals, {}, [](const Rival& rival) {
    return std::tie(rival.plain_hash, rival.id, rival.stream, rival.path, rival.row_hash);
  });
  std::unordered_set<Hash> given;
  const auto is_taken = [&](Hash hash) {
    return std::ranges::binary_search(files, hash) || is_folder(hash) || given.contains(hash);
  };
  for (size_t i = 0; i < rivals.size(); ++i) {
    const Rival& rival = rivals[i];
    const bool is_first = i == 0 || rivals[i - 1].plain_hash != rival.plain_hash;
    if (is_first && !is_folder(rival.plain_hash)) continue;
    const auto [folder, name] = split(rival.path);
    for (int attempt = 1;; ++attempt) {
      const std::string mark = attempt == 1 ? fmt::format("id {}", rival.id)
                                            : fmt::format("id {}, {}", rival.id, attempt);
      std::string path = fmt::format("{}{}{}", folder, folder.empty() ? "" : "/",
                                     marked_name(name, mark, rules_.names));
      const Hash hash = hash_of(path);
      if (is_taken(hash)) continue;
      given.insert(hash);
      others_.emplace(rival.row_hash, std::move(path));
      break;
    }
  }
}

WrittenPaths::Hash WrittenPaths::hash_of(std::string path) const {
  return std::hash<std::string>()(rules_.names.folds_case ? fold_case(path) : std::move(path));
}

std::string WrittenPaths::true_path(const Row& row) const {
  std::string path = row.path;
  const bool in_double = is_double(row, rules_);
  if (in_double) path.resize(path.size() - row.stream->size() - 1);
  if (rules_.original_paths && row.original_path) {
    path = *row.original_path + (row.stream && !in_double ? ":" + *row.stream : "");
  }
  if (in_double) path = apple_double_path(path);
  if (rules_.layout != FolderLayout::tree && !row.is_folder()) {
    const std::string_view name = split(path).name;
    if (rules_.layout == FolderLayout::flat) return std::string(name);
    return fmt::format("{}/{}", row.type.value_or("other"), name);
  }
  const auto volume = row.volume ? volumes_.find(*row.volume) : volumes_.end();
  if (volume != volumes_.end()) return fmt::format("{}/{}", volume->second, path);
  constexpr std::string_view kMadeUp = "[carved]";  // becomes the folder itself
  return path.starts_with(kMadeUp) ? "carved" + path.substr(kMadeUp.size()) : "carved/" + path;
}

std::string WrittenPaths::plain(const Row& row, const std::string& true_path) const {
  if (row.is_folder()) return safe_folder(true_path, rules_.names);
  const auto [folder, name] = split(true_path);
  return safe_folder(folder, rules_.names) + safe_name(name, rules_.names);
}

std::string WrittenPaths::of(const Row& row, const std::string& true_path) const {
  if (!others_.empty() && !row.is_folder()) {
    const auto other = others_.find(hash_of_row(row, true_path));
    if (other != others_.end()) return other->second;
  }
  return plain(row, true_path);
}

}  // namespace undershelf
