// Failures that end a command. Damage found on a source is never one of these: it is a value.
#pragma once

#include <stdexcept>
#include <string>

namespace undershelf {

enum class Failure {
  usage,        // the call is wrong: an option, filter, date or id
  unavailable,  // the source or shelf cannot be opened, is empty, or is not what it should be
  refused,      // not done for safety: something would be overwritten or written to the source
  incomplete,   // done in part only, or nothing was there to be done
};

// what() is one sentence for the user, ending in what to do next.
class Error : public std::runtime_error {
 public:
  Error(Failure failure, const std::string& sentence)
      : std::runtime_error(sentence), failure_(failure) {}
  Failure failure() const { return failure_; }

 private:
  Failure failure_;
};

}  // namespace undershelf
