// A shelf handed over by somebody: whatever commands read of it, and the content that it describes.
#include <fcntl.h>
#include <unistd.h>

#include <exception>
#include <string>

#include "access/content.h"
#include "fs/fs.h"
#include "shelf/details.h"
#include "shelf/selection.h"
#include "shelf/totals.h"
#include "shelf/traces.h"
#include "sparse_source.h"

namespace {

// A file of this process, in memory if the machine has such a place.
const std::string& path_of_shelf() {
  static const std::string path = [] {
    const std::string folder = ::access("/dev/shm", W_OK) == 0 ? "/dev/shm" : "/tmp";
    return folder + "/undershelf-fuzz-" + std::to_string(::getpid()) + ".shelf";
  }();
  return path;
}

void read_all(const std::string& path) {
  using namespace undershelf;
  Shelf shelf = Shelf::open_to_read(path);
  shelf.source();
  shelf.volumes();
  shelf.scans();
  shelf.damage_sentences(100);
  total_rows(shelf, {});
  for (const std::string& by : by_names()) total_by(shelf, {}, by_named(by), Zone());
  Spaces spaces(shelf, std::make_shared<fuzz::SparseSource>(uint64_t{64} << 20));
  ContentOpener opener(shelf, spaces);
  std::vector<std::byte> buffer(64 << 10);
  size_t rows = 0;
  Selection everything;
  everything.system = true;
  everything.sort = "size";
  each_row(shelf, everything, [&](const Row& row) {
    load_details(shelf, row.id);
    if (row.stream_id != StreamId::none) {
      const StreamReader stream = opener.open(row.stream_id);
      stream.read(0, std::span(buffer).first(std::min<uint64_t>(buffer.size(), stream.size())));
    }
    return ++rows < 1000;
  });
  SweepStore store(shelf);
  for (const FileSystem& system : file_systems()) store.traces(system.name);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  const std::string& path = path_of_shelf();
  const int file = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
  if (file < 0) return 0;
  const bool written = ::write(file, data, size) == static_cast<ssize_t>(size);
  ::close(file);
  try {
    if (written) read_all(path);
  } catch (const std::exception&) {
    // A damaged shelf is said to be one.
  }
  ::unlink(path.c_str());
  return 0;
}
