#include "checking/box.h"

#include <fcntl.h>
#include <poll.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>
#include <random>
#include <string_view>
#include <utility>
#include <vector>

#include "box/shut.h"
#include "checking/worker.h"
#include "model/error.h"

namespace undershelf::checking {
namespace {

using Clock = std::chrono::steady_clock;

// A task may not ask for more than that many times its own size, and this.
constexpr uint64_t kMostTimes = 8, kAlways = 64 << 20;

Examined no_answer(std::string_view why) {
  Examined none;
  std::memcpy(none.why.data(), why.data(), std::min(why.size(), none.why.size() - 1));
  return none;
}

}  // namespace

// One process, and the task it has.
class Box::Worker {
 public:
  explicit Worker(const Box& box) : box_(box) {}
  ~Worker() { end(); }
  Worker(const Worker&) = delete;
  Worker& operator=(const Worker&) = delete;

  bool busy() const { return task_.has_value(); }
  int messages() const { return from_; }
  Clock::time_point deadline() const { return deadline_; }

  // False if the process could not be told: it is gone.
  bool give(Task task) {
    if (process_ < 0) start();
    task_ = std::move(task);
    asked_ = 0;
    const size_t first =
        static_cast<size_t>(std::min<uint64_t>(task_->size, content::Bytes::kMostAtOnce));
    token_ = tokens_();
    const ToWorker message{
        token_, task_->size,
        first == 0 ? 0 : task_->read(0, std::span(windows_->bytes[0]).first(first))};
    return tell(message);
  }

  // What has come: an answer, or nothing yet. Throws nothing; `gone` is set if the process died.
  std::optional<Examined> hear(bool& gone) {
    FromWorker message;
    auto* bytes = reinterpret_cast<char*>(&message);
    for (size_t got = 0; got < sizeof message;) {
      const ssize_t part = ::read(from_, bytes + got, sizeof message - got);
      if (part < 0 && errno == EINTR) continue;
      if (part <= 0) {
        gone = true;
        return std::nullopt;
      }
      got += static_cast<size_t>(part);
    }
    // What bears another token is no word on this task.
    if (message.token != token_ || message.is_answer > 1) {
      gone = true;
      return std::nullopt;
    }
    if (message.is_answer == 1) return checked(message.answer);
    asked_ += message.length;
    const bool sane = message.window < Windows::kCount &&
                      message.length <= content::Bytes::kMostAtOnce &&
                      asked_ / kMostTimes <= task_->size + kAlways;
    if (!sane) {
      gone = true;
      return std::nullopt;
    }
    const auto room = std::span(windows_->bytes[message.window]).first(message.length);
    gone = !tell({token_, task_->size, task_->read(message.offset, room)});
    return std::nullopt;
  }

  Task free() { return *std::exchange(task_, std::nullopt); }

  // Ends the process. False if it had ended itself, as there can be no box here.
  bool end() {
    int status = 0;
    if (process_ >= 0) {
      ::kill(process_, SIGKILL);
      while (::waitpid(process_, &status, 0) < 0 && errno == EINTR) {
      }
      process_ = -1;
    }
    for (int* pipe : {&to_, &from_}) {
      if (*pipe >= 0) ::close(*pipe);
      *pipe = -1;
    }
    if (windows_ != nullptr) ::munmap(windows_, sizeof(Windows));
    windows_ = nullptr;
    return !WIFEXITED(status) || WEXITSTATUS(status) != box::kNoBox;
  }

 private:
  bool tell(const ToWorker& message) {
    deadline_ = Clock::now() + box_.limits_.patience;
    // Less than what a pipe takes at once; a worker that is gone must not end this process.
    return ::write(to_, &message, sizeof message) == sizeof message;
  }

  // Nothing that a worker says is believed as it is.
  static Examined checked(Examined answer) {
    answer.format.back() = answer.why.back() = answer.sha256.back() = '\0';
    if (answer.level > content::Level::verified) answer.level = content::Level::unknown;
    const std::string_view word = content::known_format(answer.format.data());
    if (word.empty()) answer.format = {};
    const bool hex = std::strspn(answer.sha256.data(), "0123456789abcdef") == 64;
    answer.hashed = answer.hashed == 1 && hex ? 1 : 0;
    return answer;
  }

  void start() {
    void* memory =
        ::mmap(nullptr, sizeof(Windows), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    int down[2] = {-1, -1}, up[2] = {-1, -1};
    if (memory == MAP_FAILED || ::pipe2(down, O_CLOEXEC) != 0 || ::pipe2(up, O_CLOEXEC) != 0) {
      throw Error(Failure::unavailable,
                  "No process for checking files could be started: the system "
                  "is out of memory or of files.");
    }
    windows_ = static_cast<Windows*>(memory);
    process_ = ::fork();
    if (process_ == 0) work(down[0], up[1], *windows_, box_.limits_.memory, box_.examination_);
    ::close(down[0]);
    ::close(up[1]);
    to_ = down[1];
    from_ = up[0];
    if (process_ < 0) {
      throw Error(Failure::unavailable,
                  "No process for checking files could be started: the system has too many.");
    }
  }

  const Box& box_;
  pid_t process_ = -1;
  int to_ = -1, from_ = -1;
  Windows* windows_ = nullptr;
  std::optional<Task> task_;
  uint64_t asked_ = 0;  // bytes
  uint64_t token_ = 0;
  std::mt19937_64 tokens_{std::random_device()()};
  Clock::time_point deadline_;
};

Box::Box(size_t workers, std::function<Examined(content::Bytes&)> examination,
         const BoxLimits& limits)
    : workers_(workers), examination_(std::move(examination)), limits_(limits) {
  box::tell_broken_pipes_by_errors();
}

Box::~Box() = default;

void Box::run(const std::function<std::optional<Task>()>& next,
              const std::function<void(uint64_t number, const Examined&)>& done,
              const std::function<bool()>& stopped) {
  std::vector<std::unique_ptr<Worker>> workers;
  for (size_t i = 0; i < workers_; ++i) workers.push_back(std::make_unique<Worker>(*this));
  const auto fail = [&](Worker& worker, std::string_view why, bool may_try_again) {
    Task task = worker.free();
    const uint64_t number = task.number;
    if (!worker.end()) {
      throw Error(
          Failure::unavailable,
          "Files cannot be checked here: no process could be made that gives up its rights. "
          "Memory or descriptors may be short, /proc missing, or seccomp switched off. "
          "Free some, or use --check sample.");
    }
    if (may_try_again && !std::exchange(task.was_tried, true) && worker.give(std::move(task))) {
      return;
    }
    if (worker.busy()) worker.free();
    done(number, no_answer(why));
  };
  constexpr std::string_view kDied = "Looking at it failed.";
  bool more = true;
  while (!stopped()) {
    for (const auto& worker : workers) {
      if (!more || worker->busy()) continue;
      std::optional<Task> task = next();
      more = task.has_value();
      if (more && !worker->give(std::move(*task))) fail(*worker, kDied, true);
    }
    std::vector<pollfd> waiting;
    std::vector<Worker*> whose;
    for (const auto& worker : workers) {
      if (!worker->busy()) continue;
      waiting.push_back({worker->messages(), POLLIN, 0});
      whose.push_back(worker.get());
    }
    if (waiting.empty()) {
      if (!more) return;
      continue;
    }
    constexpr int kBetweenLooks = 200;  // milliseconds
    ::poll(waiting.data(), waiting.size(), kBetweenLooks);
    for (size_t i = 0; i < waiting.size(); ++i) {
      Worker& worker = *whose[i];
      if (waiting[i].revents != 0) {
        bool gone = false;
        if (const auto answer = worker.hear(gone)) {
          done(worker.free().number, *answer);
        } else if (gone) {
          fail(worker, kDied, true);
        }
      } else if (Clock::now() > worker.deadline()) {
        fail(worker, "Looking at it took too long.", false);
      }
    }
  }
}

}  // namespace undershelf::checking
