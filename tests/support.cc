#include "support.h"

#include <gtest/gtest.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <sstream>

template class nlohmann::basic_json<>;

namespace undershelf::test {
namespace {

std::vector<Json> parse_lines(const std::string& text) {
  std::vector<Json> lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(Json::parse(line));
  return lines;
}

}  // namespace

TempFolder::TempFolder() {
  std::string made = (std::filesystem::temp_directory_path() / "undershelf-test-XXXXXX").string();
  if (::mkdtemp(made.data()) == nullptr) std::abort();
  path_ = made;
}

TempFolder::~TempFolder() {
  std::error_code error;
  std::filesystem::remove_all(path_, error);
}

std::vector<Json> Outcome::lines() const { return parse_lines(out); }

std::string quoted(const std::string& text) {
  std::string out = "'";
  for (const char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return out + "'";
}

Outcome shell(const std::string& command) {
  const TempFolder folder;
  const std::string out = folder.path("out");
  const std::string err = folder.path("err");
  const int status =
      std::system(("{ " + command + "\n} >" + out + " 2>" + err + " </dev/null").c_str());
  return {WIFEXITED(status) ? WEXITSTATUS(status) : -1, read_file(out), read_file(err)};
}

Outcome undershelf(const std::vector<std::string>& arguments) {
  // Wide enough that nothing is cut or broken into lines.
  std::string command = "COLUMNS=1000 " + quoted(UNDERSHELF_PROGRAM);
  for (const std::string& argument : arguments) command += " " + quoted(argument);
  return shell(command);
}

std::string read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream out;
  out << in.rdbuf();
  return out.str();
}

void write_file(const std::string& path, const std::string& content) {
  std::ofstream(path, std::ios::binary) << content;
}

std::string sample(const std::string& name) {
  const Outcome unpacked =
      shell("zstd -dcq " + quoted(std::string(UNDERSHELF_SAMPLES) + "/" + name + ".img.zst"));
  EXPECT_EQ(unpacked.code, 0) << unpacked.err;
  return unpacked.out;
}

std::vector<Json> truth(const std::string& name) {
  return parse_lines(read_file(std::string(UNDERSHELF_SAMPLES) + "/" + name + ".truth.jsonl"));
}

ReadResult MemorySource::read(uint64_t offset, std::span<std::byte> out) const {
  std::ranges::fill(out, std::byte{0});
  const ByteRange wanted{offset, out.size()};
  const ByteRange there = overlap(wanted, {0, bytes_.size()});
  if (there.length > 0) std::memcpy(out.data(), bytes_.data() + there.offset, there.length);
  ReadResult result;
  for (const ByteRange& bad : bad_) {
    const ByteRange shared = overlap(bad, wanted);
    if (shared.length == 0) continue;
    std::memset(out.data() + (shared.offset - offset), 0, shared.length);
    add_bad(result, {shared});
  }
  if (there.length < out.size()) {
    add_bad(result, {{offset + there.length, out.size() - there.length}});
  }
  return result;
}

std::string faults_of_bag(const std::string& folder) {
  const Outcome hashes = shell("cd " + quoted(folder) +
                               " && sha256sum -c --quiet --strict tagmanifest-sha256.txt && "
                               "{ [ ! -s manifest-sha256.txt ] || "
                               "sha256sum -c --quiet --strict manifest-sha256.txt; }");
  if (hashes.code != 0) return "hashes: " + hashes.out + hashes.err;
  const Outcome listed = shell("cd " + quoted(folder) + " && cut -c67- manifest-sha256.txt | sort");
  const Outcome there = shell("cd " + quoted(folder) + " && find data -type f | sort");
  if (listed.out != there.out) return "listed:\n" + listed.out + "there:\n" + there.out;
  if (read_file(folder + "/bagit.txt") !=
      "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n") {
    return "bagit.txt";
  }
  const Outcome sum = shell("cd " + quoted(folder) +
                            " && find data -type f -printf '%s\\n' | awk '{ b += $1; n++ } END "
                            "{ printf \"Payload-Oxum: %d.%d\", b, n }'");
  if (read_file(folder + "/bag-info.txt").find(sum.out + "\n") == std::string::npos) return sum.out;
  return {};
}

std::vector<Json> rows_of(const std::string& shelf, std::vector<std::string> more) {
  more.insert(more.begin(), {"list", shelf, "--format", "jsonl"});
  std::vector<Json> rows = undershelf(more).lines();
  std::erase_if(rows, [](const Json& row) { return !row["stream"].is_null(); });
  return rows;
}

std::map<int64_t, std::string> exported(const std::string& shelf, const std::string& bag) {
  std::map<int64_t, std::string> hashes;
  undershelf({"export", shelf, "--to", bag, "--forks", "skip"});
  for (const Json& record : shell("cat " + quoted(bag + "/exported.jsonl")).lines()) {
    if (record["stream"].is_null()) hashes[record["id"]] = record["sha256"];
  }
  return hashes;
}

void put16(std::string& image, size_t at, unsigned value) {
  image[at] = static_cast<char>(value);
  image[at + 1] = static_cast<char>(value >> 8);
}

void put32(std::string& image, size_t at, uint32_t value) {
  put16(image, at, value & 0xFFFF);
  put16(image, at + 2, value >> 16);
}

std::string on_terminal(const std::string& command, unsigned short columns,
                        const std::string& attributes) {
  winsize size{};
  size.ws_row = 24;
  size.ws_col = columns;
  int terminal = -1;
  const pid_t child = ::forkpty(&terminal, nullptr, nullptr, &size);
  if (child == 0) {
    ::execl("/bin/sh", "sh", "-c", command.c_str(), nullptr);
    ::_exit(127);
  }
  std::string out;
  char buffer[4096];
  for (ssize_t n = 0; (n = ::read(terminal, buffer, sizeof buffer)) > 0;) {
    out.append(buffer, static_cast<size_t>(n));
    const size_t asked = out.find("\x1b[c");
    if (asked == out.npos || attributes.empty()) continue;
    out.erase(asked, 3);
    EXPECT_EQ(::write(terminal, attributes.data(), attributes.size()),
              static_cast<ssize_t>(attributes.size()));
  }
  ::close(terminal);
  ::waitpid(child, nullptr, 0);
  return out;
}

}  // namespace undershelf::test
