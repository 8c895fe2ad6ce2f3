#include "exporting/earlier_bag.h"

#include <fcntl.h>
#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>
#include <optional>
#include <sstream>
#include <vector>

#include "exporting/target_tree.h"
#include "model/error.h"
#include "source/files.h"
#include "source/json_number.h"

namespace undershelf {
namespace {

// The file a line of exported.jsonl tells of; nothing if it was cut off, or tells of no file of the
// payload.
std::optional<std::pair<BagKey, ListedFile>> parse_record(const std::string& line) try {
  const auto record = nlohmann::json::parse(line, nullptr, false);
  if (!record.is_object()) return std::nullopt;
  const auto text = [&](const char* name) {
    const auto found = record.find(name);
    return found != record.end() && found->is_string() ? found->get<std::string>() : std::string();
  };
  BagKey key{static_cast<EntryId>(whole_number(record, "id", int64_t{0})), text("stream"),
             text("written")};
  ListedFile listed{key.path,
                    text("sha256"),
                    line + "\n",
                    whole_number(record, "bytes", uint64_t{0}),
                    0,
                    record.contains("missing") && !record["missing"].empty(),
                    record.value("changed", false)};
  const bool climbs = ("/" + key.path + "/").find("/../") != std::string::npos;
  if (!key.path.starts_with("data/") || climbs || listed.sha256.size() != 64) return std::nullopt;
  return std::pair{std::move(key), std::move(listed)};
} catch (const nlohmann::json::exception&) {
  return std::nullopt;  // not a line of ours
}

std::string read_all(const std::string& path) { return content_of(open_plain(AT_FDCWD, path)); }

}  // namespace

void EarlierBag::load(const std::string& directory, const Expected& expected,
                      const std::function<void(uint64_t)>& hashed) {
  const std::string info = read_all(directory + "/bag-info.txt");
  if (info.find(expected.identity) == std::string::npos) {
    throw Error(
        Failure::refused,
        fmt::format("{} holds an export of another shelf, or of another selection. Give the "
                    "same filters and options to go on with it, or another folder.",
                    directory));
  }
  const bool same_state = info.find(expected.state) != std::string::npos;
  TargetTree tree(directory);
  std::vector<std::byte> buffer(1 << 20);
  std::string manifest;
  std::string exported;
  std::istringstream lines(read_all(directory + "/exported.jsonl"));
  for (std::string line; std::getline(lines, line);) {
    auto parsed = parse_record(line);
    if (!parsed) continue;
    auto& [key, listed] = *parsed;
    if (files_.contains(key)) continue;
    if ((!same_state && !expected.is_still_right(key, listed)) ||
        hash_of(tree.open_to_read(key.path), buffer, false) != listed.sha256) {
      tree.remove(key.path);
      continue;
    }
    hashed(listed.bytes);
    manifest += fmt::format("{}  {}\n", listed.sha256, listed.path);
    exported += listed.record;
    files_.insert_or_assign(key, std::move(listed));
  }
  for (const char* name : {kReserveFile, "tagmanifest-sha256.txt"}) tree.remove(name);
  std::error_code error;
  if (!std::filesystem::is_symlink(directory + "/" + kStagingFolder, error)) {
    std::filesystem::remove_all(directory + "/" + kStagingFolder, error);
  }
  replace_file(tree.root(), "manifest-sha256.txt", manifest);
  replace_file(tree.root(), "exported.jsonl", exported);
}

const ListedFile* EarlierBag::find(const BagKey& key) const {
  const auto found = files_.find(key);
  return found == files_.end() ? nullptr : &found->second;
}

}  // namespace undershelf
