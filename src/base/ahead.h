#pragma once
// Work made ahead on every core, taken in order by one thread.

#include <algorithm>
#include <cstddef>
#include <deque>
#include <future>
#include <thread>

namespace nuvrat::base {

/// Calls make(0) to make(count - 1) on other threads, a few of them at a time, and hands what each
/// returns to take(), in order, on the calling one. `make` must only read what it shares. What
/// either throws is thrown here once nothing runs any more.
template <typename Make, typename Take>
void make_ahead(std::size_t count, Make make, Take take) {
  if (count == 1) {  // nothing to be gained
    take(make(0));
    return;
  }
  const std::size_t most = std::max(2u, std::thread::hardware_concurrency()) + 1;
  std::deque<std::future<decltype(make(std::size_t{}))>> ahead;  // waits for them when it goes
  for (std::size_t next = 0; next < count || !ahead.empty();) {
    for (; next < count && ahead.size() < most; ++next)
      ahead.push_back(std::async(std::launch::async, [&make, next] { return make(next); }));
    auto made = ahead.front().get();
    ahead.pop_front();
    take(std::move(made));
  }
}

}  // namespace nuvrat::base
