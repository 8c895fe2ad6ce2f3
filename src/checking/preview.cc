#include "checking/preview.h"

#include <png.h>
#include <sys/mman.h>

#include <algorithm>
#include <cstring>
#include <new>
#include <utility>

#include "checking/decode_picture.h"
#include "checking/decoders.h"
#include "checking/office.h"
#include "looking/decode.h"
#include "model/encoding.h"
#include "model/module.h"

namespace undershelf::checking {
namespace {

constexpr uint32_t kMost = 2048;               // pixels, each way
constexpr uint64_t kMostBytes = 256ULL << 20;  // of a file
constexpr uint64_t kMostPixels = 80'000'000;   // decoded; with the file, what the box may take

// Null if the module is not there.
looking::Decode* load_decoder() {
  void* const prepare = function_of_module(looking::kModule, looking::kPrepare);
  if (prepare == nullptr) return nullptr;
  reinterpret_cast<void (*)()>(prepare)();
  return reinterpret_cast<looking::Decode*>(function_of_module(looking::kModule, looking::kDecode));
}

}  // namespace

// What a process in the box leaves for this one. Nothing in it is believed.
struct Previewer::Shared {
  uint32_t width, height, full_width, full_height;
  uint32_t words_size;
  char words[4096];
  uint8_t pixels[size_t{kMost} * kMost * 3];
};

Previewer::Previewer(uint32_t most_width, uint32_t most_height)
    : shared_(static_cast<Shared*>(::mmap(nullptr, sizeof(Shared), PROT_READ | PROT_WRITE,
                                          MAP_SHARED | MAP_ANONYMOUS, -1, 0))) {
  if (shared_ == MAP_FAILED) throw std::bad_alloc();
  const uint32_t width = std::clamp(most_width, 1U, kMost);
  const uint32_t height = std::clamp(most_height, 1U, kMost);
  looking::Decode* const decode_more = load_decoder();
  decodes_all_ = decode_more != nullptr;
  box_ = std::make_unique<Box>(1, [=, shared = shared_](content::Bytes& bytes) {
    Picture picture;
    const auto head = bytes.at(0, 12);
    // A video is not read as a whole to learn that it is none of these.
    if (begins_a_picture({reinterpret_cast<const uint8_t*>(head.data()), head.size()})) {
      std::vector<uint8_t> file(std::min(bytes.size(), kMostBytes));
      file.resize(read_into(bytes, 0, std::as_writable_bytes(std::span(file))));
      picture = decode_picture(file, std::max(width, height), kMostPixels);
    }
    if (picture.pixels.empty() && bytes.has(0, "PK")) {
      const Front front = front_of_document(bytes, content::recognise(bytes).format);
      const auto* file = reinterpret_cast<const uint8_t*>(front.picture.data());
      picture = decode_picture({file, front.picture.size()}, std::max(width, height), kMostPixels);
      picture.full_width = picture.full_height = 0;
      shared->words_size =
          static_cast<uint32_t>(front.words.copy(shared->words, sizeof shared->words));
    } else if (picture.pixels.empty() && decode_more != nullptr) {
      decode_more(bytes, std::max(width, height), kMostPixels, picture);
    }
    if (picture.pixels.empty()) return Examined{};
    const Picture small = shrunk(picture, width, height);
    std::memcpy(shared->pixels, small.pixels.data(), small.pixels.size());
    shared->full_width = small.full_width;
    shared->full_height = small.full_height;
    shared->width = small.width;
    shared->height = small.height;
    return Examined{};
  });
}

Previewer::~Previewer() {
  box_.reset();
  ::munmap(shared_, sizeof(Shared));
}

Look Previewer::look(const Task& task) {
  shared_->width = shared_->height = shared_->words_size = 0;
  bool given = false;
  box_->run(
      [&]() -> std::optional<Task> {
        if (std::exchange(given, true)) return std::nullopt;
        return task;
      },
      [](uint64_t, const Examined&) {});
  Look look;
  Preview preview{shared_->width, shared_->height, shared_->full_width, shared_->full_height, {}};
  if (preview.width > 0 && preview.height > 0 && preview.width <= kMost &&
      preview.height <= kMost) {
    preview.pixels.assign(shared_->pixels,
                          shared_->pixels + size_t{preview.width} * preview.height * 3);
    look.picture = std::move(preview);
  }
  const size_t size = std::min<size_t>(shared_->words_size, sizeof shared_->words);
  const std::string words(shared_->words, size);
  if (auto text = decode_text(std::as_bytes(std::span(words))); text && size > 0) {
    look.words = std::move(text->utf8);
  }
  return look;
}

Look Previewer::look(const StreamReader& stream) {
  return look(Task{0, stream.size(), [&](uint64_t offset, std::span<std::byte> out) {
                     stream.read(offset, out);
                     return out.size();
                   }});
}

std::string png_of(const Preview& preview) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.width = preview.width;
  image.height = preview.height;
  image.format = PNG_FORMAT_RGB;
  png_alloc_size_t size = 0;
  std::string file;
  if (png_image_write_to_memory(&image, nullptr, &size, 0, preview.pixels.data(), 0, nullptr) ==
      0) {
    throw std::bad_alloc();
  }
  file.resize(size);
  if (png_image_write_to_memory(&image, file.data(), &size, 0, preview.pixels.data(), 0, nullptr) ==
      0) {
    throw std::bad_alloc();
  }
  file.resize(size);
  return file;
}

}  // namespace undershelf::checking
