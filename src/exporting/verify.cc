#include "exporting/verify.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>
#include <optional>
#include <sstream>
#include <thread>

#include "checking/box.h"
#include "exporting/bag_head.h"
#include "exporting/target_tree.h"
#include "model/error.h"
#include "model/text.h"
#include "shelf/rows.h"
#include "shelf/selection.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

using Json = nlohmann::json;

constexpr const char* kManifest = "manifest-sha256.txt";
constexpr size_t kMostListBytes = size_t{4} << 30;

// Paths in manifests have these three signs encoded (RFC 8493, 2.1.3).
std::string decoded(std::string path) {
  for (const auto& [code, sign] : {std::pair{"%0A", "\n"}, {"%0D", "\r"}, {"%25", "%"}}) {
    for (size_t at = 0; (at = path.find(code, at)) != std::string::npos; ++at) {
      path.replace(at, 3, sign);
    }
  }
  return path;
}

std::string text_of(const Json& record, const char* name) {
  const auto found = record.find(name);
  return found != record.end() && found->is_string() ? found->get<std::string>() : std::string();
}

uint64_t size_of_file(const Descriptor& file) {
  struct stat status {};
  return ::fstat(file.get(), &status) == 0 ? static_cast<uint64_t>(status.st_size) : 0;
}

class Verifier {
 public:
  Verifier(const VerifyOptions& options, const Shelf* shelf)
      : options_(options), shelf_(shelf), tree_(options.directory) {}

  VerifyResult run() {
    if (!tree_.open_to_read("bagit.txt").ok() || !tree_.open_to_read(kManifest).ok()) {
      throw Error(Failure::unavailable,
                  fmt::format("{} holds no bag: bagit.txt or {} is not there. Give the folder that "
                              "an export wrote.",
                              options_.directory, kManifest));
    }
    require_same_shelf();
    verify_tags();
    for (const auto& [path, hash] : load_manifest(kManifest)) files_[path].hash = hash;
    for (const auto& [path, file] : files_) {
      if (stopped()) break;
      const Descriptor there = tree_.open_to_read(path);
      if (there.ok()) all_bytes_ += size_of_file(there);
    }
    if (!stopped()) verify_payload();
    if (!stopped()) find_unlisted();
    if (!stopped()) read_records();
    if (options_.check && !stopped()) look_at_files();
    result_.stopped = stopped();
    return std::move(result_);
  }

 private:
  struct Listed {
    std::string hash;
    bool right = false;     // there, and as the manifest says
    bool recorded = false;  // by exported.jsonl
    bool to_check = false;  // complete, and nothing before its content
    std::string level;      // its check when it was scanned; empty: it was not looked at
  };

  bool stopped() const { return options_.interrupts != nullptr && *options_.interrupts > 0; }

  void fault(std::string sentence) { result_.faults.push_back(std::move(sentence)); }

  std::string read_text(const std::string& name) {
    const Descriptor file = tree_.open_to_read(name);
    std::string text;
    if (!file.ok()) return text;
    text.resize(std::min<uint64_t>(size_of_file(file), kMostListBytes));
    size_t got = 0;
    while (got < text.size()) {
      const ssize_t n = ::read(file.get(), text.data() + got, text.size() - got);
      if (n <= 0) break;
      got += static_cast<size_t>(n);
    }
    text.resize(got);
    return text;
  }

  std::map<std::string, std::string> load_manifest(const std::string& name) {
    std::map<std::string, std::string> hashes;
    std::istringstream lines(read_text(name));
    for (std::string line; !stopped() && std::getline(lines, line);) {
      if (line.ends_with('\r')) line.pop_back();
      const size_t path = line.find_first_not_of(" \t*", 64);
      const bool hex = line.find_first_not_of("0123456789abcdefABCDEF") == 64;
      if (!hex || path == std::string::npos) {
        fault(fmt::format("A line of {} tells no file: {}", name, line.substr(0, 80)));
        continue;
      }
      std::string hash = line.substr(0, 64);
      std::ranges::transform(hash, hash.begin(), [](unsigned char c) { return std::tolower(c); });
      const std::string file = decoded(line.substr(path));
      if (file.starts_with('/') || ("/" + file + "/").find("/../") != std::string::npos) {
        fault(fmt::format("{} tells of a file outside of the bag: {}", name, file));
        continue;
      }
      if (!hashes.emplace(file, std::move(hash)).second) {
        fault(fmt::format("{} tells of {} twice.", name, file));
      }
    }
    return hashes;
  }

  std::string hash_at(const std::string& path) {
    return hash_of(tree_.open_to_read(path), buffer_, false);
  }

  // A bag of another program says nothing of a shelf.
  void require_same_shelf() {
    const std::string info = read_text("bag-info.txt");
    if (shelf_ == nullptr || info.find("Shelf-Identity: ") == std::string::npos) return;
    if (is_of(info, *shelf_)) return;
    throw Error(Failure::unavailable,
                fmt::format("{} is an export of another shelf. Give the one that its bag-info.txt "
                            "names, or leave --shelf out.",
                            options_.directory));
  }

  // The lists themselves.
  void verify_tags() {
    constexpr const char* kTags = "tagmanifest-sha256.txt";
    if (!tree_.open_to_read(kTags).ok()) {
      fault(
          fmt::format("{} is not there: the export did not end in order. `undershelf export "
                      "--resume` goes on with it.",
                      kTags));
      return;
    }
    for (const auto& [name, hash] : load_manifest(kTags)) {
      if (hash_at(name) != hash) fault(fmt::format("{} is not as {} says.", name, kTags));
    }
  }

  void verify_payload() {
    uint64_t done = 0;
    for (auto& [path, file] : files_) {
      if (stopped()) return;
      const Descriptor there = tree_.open_to_read(path);
      if (!there.ok()) {
        fault(fmt::format("{} is not there.", path));
        continue;
      }
      const uint64_t size = size_of_file(there);
      const std::string hash = hash_of(there, buffer_, false);
      done += size;
      options_.progress(done, all_bytes_);
      if (hash.empty()) {
        fault(fmt::format("{} could not be read.", path));
      } else if (hash != file.hash) {
        fault(fmt::format("{} is not as it was written.", path));
      } else {
        file.right = true;
        result_.payload.add(size);
      }
    }
    verify_sum();
  }

  // Payload-Oxum (2.2.2): bytes and files.
  void verify_sum() {
    const std::string info = read_text("bag-info.txt");
    const size_t at = info.find("Payload-Oxum: ");
    if (at == std::string::npos || !result_.faults.empty()) return;
    const std::string sum = fmt::format("{}.{}", result_.payload.bytes, result_.payload.files);
    const size_t begin = at + 14;
    if (info.substr(begin, info.find_first_of("\r\n", begin) - begin) != sum) {
      fault(fmt::format("bag-info.txt tells of other sums than the {} of its files.", sum));
    }
  }

  // What lies in data/ and in no list. A link is a file here: it is not followed.
  void find_unlisted() {
    const std::filesystem::path root = options_.directory;
    std::error_code error;
    if (!std::filesystem::is_directory(std::filesystem::symlink_status(root / "data", error))) {
      return fault("data is no folder of the bag.");
    }
    std::filesystem::recursive_directory_iterator next(root / "data", error);
    for (const std::filesystem::recursive_directory_iterator end;
         !error && !stopped() && next != end; next.increment(error)) {
      if (next->is_directory() && !next->is_symlink()) continue;
      const std::string path = next->path().lexically_relative(root).string();
      if (!files_.contains(path)) fault(fmt::format("{} is in no list.", path));
    }
    if (error) fault(fmt::format("The folders of the bag could not be read: {}.", error.message()));
  }

  // exported.jsonl; a bag of another program has none.
  void read_records() {
    if (!tree_.open_to_read("exported.jsonl").ok()) return;
    std::istringstream lines(read_text("exported.jsonl"));
    for (std::string line; !stopped() && std::getline(lines, line);) {
      const Json record = Json::parse(line, nullptr, false);
      const std::string path = record.is_object() ? text_of(record, "written") : "";
      const auto found = files_.find(path);
      if (found == files_.end() || text_of(record, "sha256") != found->second.hash) {
        fault(fmt::format("exported.jsonl tells of {}, and the manifest does not, or otherwise.",
                          path.empty() ? "a line that is no file" : path));
        continue;
      }
      take_record(record, path, found->second);
    }
    for (const auto& [path, file] : files_) {
      if (stopped()) return;
      if (!file.recorded) fault(fmt::format("exported.jsonl does not tell of {}.", path));
    }
  }

  void take_record(const Json& record, const std::string& path, Listed& file) {
    file.recorded = true;
    if (!file.right) return;
    const bool gaps = record.contains("missing") && !record["missing"].empty();
    result_.with_gaps += gaps;
    result_.changed += record.value("changed", Json()) == true;
    file.level = text_of(record, "check");
    // A resource fork has a head in front of it that is not its own.
    const bool as_stored = record.contains("size") && record["size"].is_number_unsigned() &&
                           record.contains("bytes") && record["bytes"] == record["size"];
    file.to_check = !gaps && as_stored && record["size"] > 0;
    if (shelf_ != nullptr && record.contains("id") && record["id"].is_number_integer()) {
      compare_with_shelf(record, path, as_stored && !gaps);
    }
  }

  void compare_with_shelf(const Json& record, const std::string& path, bool is_complete) {
    SQLite::Statement row(shelf_->db(),
                          "SELECT s.size, s.sha256 FROM streams s WHERE s.entry=? AND s.name IS ?");
    row.bind(1, number_of(resolved(record["id"].get<int64_t>())));
    const std::string stream = text_of(record, "stream");
    stream.empty() ? row.bind(2) : row.bind(2, stream);
    if (!row.executeStep()) return fault(fmt::format("The shelf knows nothing of {}.", path));
    const auto size = maybe_size(row.getColumn(0));
    const auto hash = maybe_text(row.getColumn(1));
    const bool same_size = !size || (record.contains("size") && record["size"] == *size);
    const bool changed = record.value("changed", Json()) == true;
    const bool same = !is_complete || changed || !hash || *hash == text_of(record, "sha256");
    if (!same_size || !same) return fault(fmt::format("The shelf has {} otherwise.", path));
    ++result_.in_shelf;
  }

  EntryId resolved(int64_t id) const {
    try {
      return resolve_id(*shelf_, static_cast<EntryId>(id));
    } catch (const Error&) {
      return EntryId::none;
    }
  }

  // Each complete file to its end, in the box: what it is, and whether it holds.
  void look_at_files() {
    std::vector<const std::string*> paths;
    for (const auto& [path, file] : files_) {
      if (file.right && file.to_check) paths.push_back(&path);
    }
    size_t given = 0;
    checking::Box box(std::max(1U, std::thread::hardware_concurrency()), checking::examine);
    box.run(
        [&]() -> std::optional<checking::Task> {
          if (given == paths.size()) return std::nullopt;
          const auto file = std::make_shared<Descriptor>(tree_.open_to_read(*paths[given]));
          return checking::Task{given++, size_of_file(*file),
                                [file](uint64_t offset, std::span<std::byte> out) -> size_t {
                                  const ssize_t n = ::pread(file->get(), out.data(), out.size(),
                                                            static_cast<off_t>(offset));
                                  return n < 0 ? 0 : static_cast<size_t>(n);
                                }};
        },
        [&](uint64_t number, const checking::Examined& found) {
          take_check(*paths[number], found);
        },
        [this] { return stopped(); });
  }

  void take_check(const std::string& path, const checking::Examined& found) {
    using content::Level;
    switch (found.level) {
      case Level::verified:
        ++result_.verified;
        return;
      case Level::consistent:
        ++result_.consistent;
        return;
      case Level::unknown:
        ++result_.unknown;
        return;
      case Level::broken:
        break;
    }
    const std::string where = fmt::format("{} ({}) breaks off at byte {}: {}", path,
                                          found.format.data(), found.sound_to, found.why.data());
    result_.broken.push_back(where);
    const std::string& before = files_.at(path).level;
    if (before == "verified" || before == "consistent") {
      fault(fmt::format("{} was {} when it was scanned, and is not now.", path, before));
    }
  }

  const VerifyOptions& options_;
  const Shelf* shelf_;
  TargetTree tree_;
  std::map<std::string, Listed> files_;  // by path
  uint64_t all_bytes_ = 0;
  std::vector<std::byte> buffer_ = std::vector<std::byte>(1 << 20);
  VerifyResult result_;
};

}  // namespace

VerifyResult verify_bag(const VerifyOptions& options, const Shelf* shelf) {
  try {
    return Verifier(options, shelf).run();
  } catch (const TargetFailed& failure) {
    throw Error(Failure::unavailable,
                fmt::format("{} cannot be opened: {}. Give the folder that an "
                            "export wrote.",
                            options.directory, std::strerror(failure.error)));
  }
}

}  // namespace undershelf
