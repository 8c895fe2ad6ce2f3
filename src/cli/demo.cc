// `undershelf demo`: the whole job on the shipped sample volumes.
#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <memory>

#include "cli/command.h"
#include "cli/confined.h"
#include "model/shell.h"
#include "shelf/selection.h"
#include "source/files.h"

namespace undershelf::cli {
namespace {

namespace fs = std::filesystem;

// One volume of each file system or more; the other samples are for the tests.
constexpr std::array kToured = {"fat16-logger", "fat32-logger", "exfat-camera", "ntfs-office",
                                "hfsplus-journal"};
constexpr std::array kFormatted = {"formatted-fat32-to-ntfs", "formatted-ntfs-again"};

// Installed beside the program, or where it was built.
fs::path samples_folder() {
  std::error_code error;
  const fs::path program = fs::read_symlink("/proc/self/exe", error);
  const fs::path installed = program.parent_path().parent_path() / "share/undershelf/samples";
  for (const fs::path& folder : {installed, fs::path(UNDERSHELF_SAMPLES_BUILD)}) {
    if (fs::is_directory(folder, error)) return folder;
  }
  throw Error(Failure::unavailable,
              "The sample volumes are not installed. Run the demo from a "
              "build of the project, or install it.");
}

// Unpacks one compressed image, leaving holes where it is zero.
void unpack(const fs::path& packed, const fs::path& image) {
  const std::unique_ptr<archive, decltype(&archive_read_free)> in(archive_read_new(),
                                                                  archive_read_free);
  archive_read_support_filter_zstd(in.get());
  archive_read_support_format_raw(in.get());
  archive_entry* entry = nullptr;
  if (archive_read_open_filename(in.get(), packed.c_str(), 1 << 20) != ARCHIVE_OK ||
      archive_read_next_header(in.get(), &entry) != ARCHIVE_OK) {
    throw Error(Failure::unavailable, fmt::format("The sample {} cannot be unpacked: {}.",
                                                  packed.string(), archive_error_string(in.get())));
  }
  const Descriptor out = open_to_write(AT_FDCWD, image.string(), Place::empty);
  bool fine = out.ok();
  uint64_t size = 0;
  while (true) {
    const void* block = nullptr;
    size_t length = 0;
    la_int64_t offset = 0;
    const int status = archive_read_data_block(in.get(), &block, &length, &offset);
    if (status == ARCHIVE_EOF) break;
    if (status != ARCHIVE_OK) {
      throw Error(Failure::unavailable,
                  fmt::format("The sample {} is damaged: {}.", packed.string(),
                              archive_error_string(in.get())));
    }
    const auto* bytes = static_cast<const char*>(block);
    if (std::any_of(bytes, bytes + length, [](char c) { return c != 0; })) {
      fine = fine && ::lseek(out.get(), offset, SEEK_SET) == offset &&
             write_all(out.get(), bytes, length);
    }
    size = static_cast<uint64_t>(offset) + length;
  }
  if (!fine || ::ftruncate(out.get(), static_cast<off_t>(size)) != 0) {
    throw Error(Failure::refused, fmt::format("{} cannot be written. Choose another folder with "
                                              "--to DIR.",
                                              image.string()));
  }
}

// The id of the first lost file of this rating, as the user would pick it from the list.
std::string pick(const std::string& shelf_path, const std::string& rating) {
  const Shelf shelf = Shelf::open_to_read(shelf_path);
  Selection selection;
  selection.states = {"deleted", "carved"};
  selection.types = {"document"};
  selection.kinds = {"file"};
  std::string id = "1";
  each_row(shelf, selection, [&](const Row& row) {
    if (row.rating != rating || row.size == 0) return true;
    id = fmt::to_string(row.id);
    return false;
  });
  return id;
}

// The work on one image: its files' names, and the worst exit code so far.
struct Work {
  explicit Work(const fs::path& image)
      : source(image.string()),
        shelf(fs::path(image).replace_extension(".shelf").string()),
        bag(fs::path(image).replace_extension("").string() + "-recovered") {}
  void then(const std::vector<std::string>& arguments) {
    worst = std::max(worst, run_shown(arguments));
  }

  std::string source, shelf, bag;
  int worst = kDone;
};

// A volume that was formatted over: found by a deep scan.
void work_deeply(Work& work) {
  work.then({"scan", work.source, "--shelf", work.shelf});
  work.then({"scan", work.source, "--shelf", work.shelf, "--depth", "deep"});
  work.then({"volumes", work.shelf});
  work.then({"tree", work.shelf, "--state", "former", "--path", "**/*png"});
  work.then({"export", work.shelf, "--to", work.bag, "--state", "former", "--rating", "likely+"});
}

// Disk images that lie as files on a volume, some of them deleted.
void work_on_images(Work& work) {
  work.then({"scan", work.source, "--shelf", work.shelf});
  work.then({"volumes", work.shelf});
  work.then({"tree", work.shelf, "--state", "deleted"});
  work.then({"export", work.shelf, "--to", work.bag, "--state", "deleted", "--rating", "likely+"});
}

// Real files of every kind, sound and harmed: looked at to their end.
void work_on_kinds(Work& work) {
  work.then({"scan", work.source, "--shelf", work.shelf, "--check", "full"});
  work.then({"list", work.shelf, "--path", "/Harmed", "--path", "/Misnamed", "--kind", "file"});
  work.then({"show", work.shelf, pick(work.shelf, "partial")});
  work.then({"export", work.shelf, "--to", work.bag, "--rating", "whole", "--state", "deleted"});
}

// A card of which all metadata is gone.
void work_by_content(Work& work) {
  work.then({"scan", work.source, "--shelf", work.shelf, "--depth", "deep"});
  work.then({"tree", work.shelf, "--type", "picture,audio"});
  work.then({"show", work.shelf, pick(work.shelf, "whole")});
  work.then({"export", work.shelf, "--to", work.bag, "--state", "carved"});
}

// Without anybody beside it.
void work_as_job(Work& work) {
  const std::string name = fs::path(work.source).stem().string();
  const std::string job = name + ".conf";
  write_new_file(job, fmt::format("source   = {}\nexport   = {}\nreport   = {}-report\n"
                                  "shop     = Under Shelf demo\ncase     = 17\n"
                                  "customer = Tide-gauge survey party\n",
                                  work.source, work.bag, name));
  std::cout << fmt::format("\n$ cat {}\n", job) << std::ifstream(job).rdbuf();
  work.then({"job", job});
  work.then({"advise", work.shelf, "--find", "tide", "--state", "deleted"});
}

void work_quickly(Work& work) {
  const std::string& shelf = work.shelf;
  work.then({"survey", work.source});
  work.then({"scan", work.source, "--shelf", shelf});
  work.then({"volumes", shelf});
  work.then({"list", shelf, "--state", "deleted", "--kind", "file", "--limit", "12"});
  work.then({"tree", shelf, "--state", "deleted"});
  work.then({"list", shelf, "--state", "deleted", "--rating", "likely+", "--count"});
  work.then({"show", shelf, pick(shelf, "likely")});
  work.then({"peek", shelf, pick(shelf, "likely"), "--bytes", "200"});
  work.then({"export", shelf, "--to", work.bag, "--state", "deleted"});
}

}  // namespace

int run_demo(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("to", po::value<std::string>()->value_name("DIR"),
                        "a new or empty folder; one under the temporary folder if not given");
  const CommandLine line(self, options, {}, arguments);
  if (line.help_given()) return kDone;
  const fs::path samples = samples_folder();
  fs::path target = line.text("to");
  if (target.empty()) {
    std::string made = (fs::temp_directory_path() / "undershelf-demo-XXXXXX").string();
    if (::mkdtemp(made.data()) == nullptr) {
      throw Error(Failure::refused, "No temporary folder can be made. Choose one with --to DIR.");
    }
    target = made;
  }
  std::error_code error;
  fs::create_directories(target, error);
  if (error || !fs::is_empty(target)) {
    throw Error(Failure::refused,
                fmt::format("{} is not an empty folder. Choose a new one.", target.string()));
  }
  target = fs::canonical(target);
  confine_to({target.string()});
  fs::current_path(target);  // so that the commands shown are short
  std::cout << fmt::format("$ cd {}\n", shell_quoted(target.string()));
  int worst = kDone;
  const auto tour = [&](const char* name, void (*steps)(Work&)) {
    const fs::path image = fmt::format("{}.img", name);
    unpack(samples / fmt::format("{}.img.zst", name), image);
    Work work(image);
    steps(work);
    worst = std::max(worst, work.worst);
  };
  for (const char* name : kToured) tour(name, work_quickly);
  for (const char* name : kFormatted) tour(name, work_deeply);
  tour("fat32-images", work_on_images);
  tour("fat32-kinds", work_on_kinds);
  tour("bare-card", work_by_content);
  tour("fat32-trash", work_as_job);
  // Overwritten files are part of the samples: their exports are incomplete, and say so.
  std::cout << fmt::format("\nThe images, shelves and recovered files lie in {}.\n",
                           target.string());
  next_step(
      fmt::format("look into {}, and delete it when you are done.", shell_quoted(target.string())));
  return worst == kIncomplete ? kDone : worst;
}

}  // namespace undershelf::cli
