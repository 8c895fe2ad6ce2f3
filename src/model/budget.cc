#include "model/budget.h"

namespace undershelf {

void Budget::begin(const Limits& limits) {
  limits_ = limits;
  bytes_ = rows_ = steps_ = 0;
}

void Budget::heed() { heeded_ = interrupts_ == nullptr ? 0 : interrupts_->load(); }

}  // namespace undershelf
