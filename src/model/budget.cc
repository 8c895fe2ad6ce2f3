#include "model/budget.h"

namespace undershelf {

void Budget::begin(const Limits& limits) {
  limits_ = limits;
  tolerated_ = interrupts_ == nullptr ? 0 : interrupts_->load();
  bytes_ = rows_ = steps_ = 0;
}

}  // namespace undershelf
