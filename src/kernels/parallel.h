// Work in parallel regions, which no exception may leave.
#pragma once
#include <atomic>
#include <exception>
#include <mutex>

namespace twin {
// Runs pieces of work until one fails; its exception is thrown again after the region, by the thread that opened it.
class ParallelGuard {
 public:
  template <class Work>
  void run(Work&& work) {
    if (failed_) return;
    try {
      work();
    } catch (...) {
      const std::lock_guard<std::mutex> lock(mutex_);
      if (!failed_.exchange(true)) error_ = std::current_exception();
    }
  }
  void rethrow() const {
    if (failed_) std::rethrow_exception(error_);
  }

 private:
  std::atomic<bool> failed_{false};
  std::exception_ptr error_;
  std::mutex mutex_;
};
}  // namespace twin
