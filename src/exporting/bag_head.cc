#include "exporting/bag_head.h"

#include <fcntl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <filesystem>

#include "exporting/target.h"
#include "model/error.h"
#include "model/text.h"
#include "source/hash.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

std::string hash_of_lines(const std::vector<std::string>& lines) {
  Sha256 hash;
  for (const std::string& line : lines) {
    hash.update(std::as_bytes(std::span(line)));
    hash.update(std::as_bytes(std::span("\n", 1)));
  }
  return hash.hex();
}

// By what an export is known again: the shelf, and what was asked of it.
std::string identity_line(const Shelf& shelf) {
  const SourceIdentity source = shelf.source();
  std::vector<std::string> lines = {std::to_string(source.size)};
  for (const BlockHash& block : source.blocks) lines.push_back(block.sha256);
  const std::vector<ScanRecord> scans = shelf.scans();
  if (!scans.empty()) lines.push_back(scans.front().started);
  return fmt::format("Shelf-Identity: {}\n", hash_of_lines(lines));
}

std::string identity(const Shelf& shelf, const ExportOptions& options) {
  return fmt::format("{}Selection: {}\n", identity_line(shelf),
                     options.described.empty() ? "everything" : options.described);
}

// Whether a folder holds nothing but what an export that was killed at its very beginning leaves.
bool is_barely_begun(const fs::path& directory) {
  constexpr std::array<std::string_view, 3> kFirst = {"bagit.txt", "bagit.txt.new",
                                                      "bag-info.txt.new"};
  std::error_code error;
  for (const fs::directory_entry& entry : fs::directory_iterator(directory, error)) {
    if (std::ranges::find(kFirst, entry.path().filename().string()) == kFirst.end()) return false;
  }
  return !error;
}

}  // namespace

namespace {

// Of which scans' results a bag is.
std::string state_line(const Shelf& shelf) {
  std::vector<std::string> lines;
  for (const ScanRecord& scan : shelf.scans()) {
    lines.insert(lines.end(), {scan.depth, scan.check, scan.state, scan.started, scan.ended,
                               std::to_string(scan.gaps)});
  }
  return fmt::format("Shelf-State: {}\n", hash_of_lines(lines));
}

}  // namespace

std::string bag_info(const Shelf& shelf, const ExportOptions& options, std::time_t started) {
  const SourceIdentity source = shelf.source();
  return fmt::format(
      "Source: {}\n{}Source-Size: {}\nShelf: {}\n{}{}Bag-Software-Agent: undershelf {}\n"
      "Bagging-Date: {:%Y-%m-%d}\nBagging-Time: {:%Y-%m-%dT%H:%M:%SZ}\n",
      printable(source.path),
      source.serial.empty() ? "" : fmt::format("Source-Serial: {}\n", printable(source.serial)),
      source.size, printable(options.shelf_path), identity(shelf, options), state_line(shelf),
      UNDERSHELF_VERSION, fmt::gmtime(started), fmt::gmtime(started));
}

bool is_of(const std::string& info, const Shelf& shelf) {
  return info.find(identity_line(shelf)) != std::string::npos;
}

bool is_of_state(const std::string& info, const Shelf& shelf) {
  return is_of(info, shelf) && info.find(state_line(shelf)) != std::string::npos;
}

std::string with_payload_sum(const std::string& info, const FileSum& payload) {
  return fmt::format("{}Payload-Oxum: {}.{}\n", info, payload.bytes, payload.files);
}

bool require_usable_folder(const ExportOptions& options) {
  const fs::path directory(options.to);
  require_writable_parent(options.to);
  std::error_code error;
  const bool exists = fs::exists(fs::symlink_status(directory, error));
  if (exists && !fs::is_directory(directory, error)) {
    throw Error(Failure::refused, fmt::format("{} is a file. Choose a new folder.", options.to));
  }
  const bool earlier = options.resume && exists && fs::exists(directory / "bag-info.txt", error);
  if (exists && !earlier && !fs::is_empty(directory, error) && !is_barely_begun(directory)) {
    throw Error(
        Failure::refused,
        error ? fmt::format("{} cannot be read: {}. Choose another folder.", options.to,
                            error.message())
              : fmt::format("{} is not an empty folder{}. Nothing is overwritten: choose "
                            "a new folder.",
                            options.to,
                            options.resume ? ", nor an export that can be gone on with" : ""));
  }
  return earlier;
}

void prepare_bag(const Shelf& shelf, const ExportOptions& options, std::time_t started,
                 EarlierBag& earlier, const IsStillRight& is_still_right,
                 const std::function<void(uint64_t)>& progress) {
  if (require_usable_folder(options)) {
    earlier.load(options.to, {identity(shelf, options), state_line(shelf), is_still_right},
                 progress);
  } else if (::mkdir(options.to.c_str(), 0777) != 0 && errno != EEXIST) {
    throw TargetFailed{errno};
  }
  const Descriptor root(::open(options.to.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!root.ok()) throw TargetFailed{errno};
  replace_file(root.get(), "bagit.txt", kBagDeclaration);
  replace_file(root.get(), "bag-info.txt", bag_info(shelf, options, started));
}

}  // namespace undershelf
