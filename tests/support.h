// What tests share: a temporary folder, sample volumes, and running the built program.
#pragma once

#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "model/pieces.h"
#include "source/source.h"

namespace undershelf::test {

using Json = nlohmann::json;

// A folder that is removed with all that is in it.
class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;
  std::string path(const std::string& name) const { return (path_ / name).string(); }
  std::string path() const { return path_.string(); }

 private:
  std::filesystem::path path_;
};

struct Outcome {
  int code = 0;
  std::string out, err;
  std::vector<Json> lines() const;  // standard output as JSON Lines
};

// Runs the built program with these arguments, as in a very wide terminal.
Outcome undershelf(const std::vector<std::string>& arguments);
// Runs a command line in a shell.
Outcome shell(const std::string& command);
std::string quoted(const std::string& text);

std::string read_file(const std::string& path);
void write_file(const std::string& path, const std::string& content);

// The content of a shipped sample volume, unpacked.
std::string sample(const std::string& name);
// What is known to be true of it: one object for each file or folder that ever was.
std::vector<Json> truth(const std::string& name);

// Bytes in memory as a source; reads of `bad` fail.
class MemorySource : public Source {
 public:
  explicit MemorySource(std::string bytes, std::vector<ByteRange> bad = {})
      : bytes_(std::move(bytes)), bad_(std::move(bad)) {}
  uint64_t size() const override { return bytes_.size(); }
  uint32_t sector_size() const override { return 512; }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;

 private:
  std::string bytes_;
  std::vector<ByteRange> bad_;
};

// What is wrong with a bag by RFC 8493, found out with nothing of the program: each file of the
// payload in the manifest and each of the manifest there, all hashes right, the tag manifest too,
// the sum of bytes and files as bag-info.txt says. Empty if it is valid.
std::string faults_of_bag(const std::string& folder);

// The entries in a shelf as `list` has them, without secondary streams; `more`: options of it.
std::vector<Json> rows_of(const std::string& shelf, std::vector<std::string> more = {});
// SHA-256 of what an export to a new folder brings back, by id.
std::map<int64_t, std::string> exported(const std::string& shelf, const std::string& bag);

// Little-endian numbers inside an image.
void put16(std::string& image, size_t at, unsigned value);
void put32(std::string& image, size_t at, uint32_t value);

// All that a command line writes to a terminal of so many columns, which answers with these when it
// is asked for its attributes.
std::string on_terminal(const std::string& command, unsigned short columns,
                        const std::string& attributes = "");

}  // namespace undershelf::test
