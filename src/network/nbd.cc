// Network block devices by libnbd: a module (source/nbd.h).
#include "source/nbd.h"

#include <fmt/format.h>
#include <libnbd.h>

#include <algorithm>
#include <cerrno>

#include "model/error.h"

namespace undershelf {
namespace {

constexpr size_t kRequest = 256 * 1024;  // bytes asked for at once; several are in flight

constexpr std::chrono::seconds kConnectLimit(20);

struct Close {
  void operator()(nbd_handle* handle) const { nbd_close(handle); }
};
using Handle = std::unique_ptr<nbd_handle, Close>;

std::string reason() {
  const char* said = nbd_get_error();
  std::string text = said == nullptr ? "no answer" : said;
  // It begins with the name of the library's function.
  if (text.starts_with("nbd_")) text.erase(0, std::min(text.find(": "), text.size() - 2) + 2);
  return text;
}

class NbdMedium : public Medium {
 public:
  explicit NbdMedium(std::string uri) : uri_(std::move(uri)) {
    std::string why = connect();
    if (why.empty() && size_ == 0) why = "it has no bytes";
    if (!why.empty()) {
      throw Error(Failure::unavailable,
                  fmt::format("Cannot open the source {}: {}. Check that the server runs, and the "
                              "name of its export.",
                              uri_, why));
    }
  }

  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return unit_ > 512 ? 4096 : 512; }
  uint32_t unit() const override { return unit_; }
  bool takes_any_memory() const override { return true; }

  Attempt read(uint64_t offset, std::span<std::byte> out, Seconds limit) override {
    std::vector<Request> requests;
    for (size_t at = 0; at < out.size(); at += request_) {
      requests.push_back({{offset + at, std::min(request_, out.size() - at)}, -1, ENOTCONN});
    }
    const auto until = std::chrono::steady_clock::now() + limit;
    bool gone = handle_ == nullptr;
    for (Request& request : requests) {
      if (gone) break;
      request.cookie =
          nbd_aio_pread(handle_.get(), out.data() + (request.range.offset - offset),
                        request.range.length, request.range.offset, nbd_completion_callback{}, 0);
      gone = request.cookie < 0;
    }
    bool late = false;
    while (!gone && !late && !all_answered(requests)) {
      const std::chrono::duration<double, std::milli> left =
          until - std::chrono::steady_clock::now();
      late = left.count() <= 0;
      if (!late) gone = nbd_poll(handle_.get(), static_cast<int>(left.count()) + 1) < 0;
    }
    if (gone) all_answered(requests);
    // What is still to be answered would be written to `out` later: the connection is given up.
    if (gone || late) handle_.reset();
    Attempt attempt;
    attempt.gone = gone;
    for (const Request& request : requests) {
      if (request.error == 0) continue;
      attempt.error = late && request.error == EINPROGRESS ? ETIMEDOUT : request.error;
      add_bad(attempt, request.range);
    }
    if (late) connect();  // if that fails, the next request finds it gone
    return attempt;
  }

  bool is_back() override { return handle_ != nullptr || connect().empty(); }

 private:
  struct Request {
    ByteRange range;
    int64_t cookie;
    int error;  // EINPROGRESS until it was answered
  };

  static void add_bad(Attempt& attempt, const ByteRange& range) {
    if (!attempt.bad.empty() && attempt.bad.back().end() == range.offset) {
      attempt.bad.back().length += range.length;
    } else {
      attempt.bad.push_back(range);
    }
  }

  // Takes what came.
  bool all_answered(std::vector<Request>& requests) {
    bool all = true;
    for (Request& request : requests) {
      if (request.cookie < 0) continue;
      const int done =
          nbd_aio_command_completed(handle_.get(), static_cast<uint64_t>(request.cookie));
      if (done == 0) {
        request.error = EINPROGRESS;
        all = false;
        continue;
      }
      request.error = done == 1 ? 0 : std::max(nbd_get_errno(), 1);
      request.cookie = -1;
    }
    return all;
  }

  // Why it cannot be; empty if it was.
  std::string connect() {
    Handle handle(nbd_create());
    // What a read that went well does not fill is not looked at.
    if (handle == nullptr || nbd_set_pread_initialize(handle.get(), false) < 0 ||
        nbd_aio_connect_uri(handle.get(), uri_.c_str()) < 0) {
      return reason();
    }
    const auto until = std::chrono::steady_clock::now() + kConnectLimit;
    while (nbd_aio_is_ready(handle.get()) == 0) {
      const std::chrono::duration<double, std::milli> left =
          until - std::chrono::steady_clock::now();
      if (left.count() <= 0) return "it gives no answer, or serves no more than it does now";
      if (nbd_poll(handle.get(), static_cast<int>(left.count()) + 1) < 0) return reason();
    }
    const int64_t size = nbd_get_size(handle.get());
    if (size < 0) return reason();
    if (size_ != 0 && static_cast<uint64_t>(size) != size_) return "its size is another one now";
    const int64_t least = nbd_get_block_size(handle.get(), LIBNBD_SIZE_MINIMUM);
    const int64_t most = nbd_get_block_size(handle.get(), LIBNBD_SIZE_MAXIMUM);
    size_ = static_cast<uint64_t>(size);
    unit_ = static_cast<uint32_t>(std::clamp<int64_t>(least, 512, 65536));
    if (most > 0) request_ = std::clamp<size_t>(static_cast<size_t>(most), unit_, kRequest);
    handle_ = std::move(handle);
    return {};
  }

  std::string uri_;
  Handle handle_;
  uint64_t size_ = 0;
  uint32_t unit_ = 512;
  size_t request_ = kRequest;
};

}  // namespace
}  // namespace undershelf

extern "C" __attribute__((visibility("default"))) undershelf::Medium* undershelf_open_nbd(
    const std::string& uri) {
  return std::make_unique<undershelf::NbdMedium>(uri).release();
}
