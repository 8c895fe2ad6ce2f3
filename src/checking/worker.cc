#include "checking/worker.h"

#include <unistd.h>

#include <exception>
#include <new>

#include "box/shut.h"

namespace undershelf::checking {
namespace {

constexpr int kNoMemory = 71;  // exit code

// The file as a worker sees it.
class WindowedBytes : public content::Bytes {
 public:
  WindowedBytes(Windows& windows, const ToWorker& task)
      : windows_(windows), token_(task.token), size_(task.size) {
    views_[0] = {0, task.length, task.length, 1};
  }
  uint64_t size() const override { return size_; }

  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    if (offset >= size_) return {};
    length = static_cast<size_t>(std::min<uint64_t>({length, size_ - offset, kMostAtOnce}));
    if (length == 0) return {};
    for (size_t i = 0; i < views_.size(); ++i) {
      View& view = views_[i];
      if (offset < view.offset || offset >= view.offset + view.asked) continue;
      // All of it, or as far as there is any.
      const uint64_t from = offset - view.offset;
      const bool short_of = view.length < view.asked;
      if (from + length > view.length && !short_of) continue;
      view.used = ++clock_;
      const uint64_t there = view.length > from ? view.length - from : 0;
      return std::span(windows_.bytes[i]).subspan(from, std::min<uint64_t>(length, there));
    }
    return load(offset, length);
  }

 private:
  struct View {
    uint64_t offset = 0, asked = 0, length = 0;
    uint64_t used = 0;
  };

  std::span<const std::byte> load(uint64_t offset, size_t length) {
    constexpr size_t kLittle = 4096, kAhead = 64 << 10;
    const uint64_t wanted = length <= kLittle ? kAhead : kMostAtOnce;
    size_t oldest = 0;
    for (size_t i = 1; i < views_.size(); ++i) {
      if (views_[i].used < views_[oldest].used) oldest = i;
    }
    FromWorker ask;
    ask.token = token_;
    ask.offset = offset;
    ask.length = std::min(wanted, size_ - offset);
    ask.window = static_cast<uint32_t>(oldest);
    box::write_all(&ask, sizeof ask);
    ToWorker told;
    if (!box::read_all(&told, sizeof told)) ::_exit(0);
    views_[oldest] = {offset, ask.length, std::min(told.length, ask.length), ++clock_};
    return std::span(windows_.bytes[oldest])
        .first(std::min<uint64_t>(length, views_[oldest].length));
  }

  Windows& windows_;
  const uint64_t token_;
  const uint64_t size_;
  std::array<View, Windows::kCount> views_{};
  uint64_t clock_ = 1;
};

}  // namespace

void work(int in, int out, Windows& windows, uint64_t memory,
          const std::function<Examined(content::Bytes&)>& examination) {
  box::shut(in, out, memory);
  ToWorker task;
  while (box::read_all(&task, sizeof task)) {
    FromWorker reply;
    reply.token = task.token;
    reply.is_answer = 1;
    try {
      WindowedBytes bytes(windows, task);
      reply.answer = examination(bytes);
    } catch (const std::bad_alloc&) {
      ::_exit(kNoMemory);
    } catch (const std::exception&) {
      reply.answer = {};
    }
    box::write_all(&reply, sizeof reply);
  }
  ::_exit(0);
}

}  // namespace undershelf::checking
