#include "counting.h"

#include <atomic>
#include <cstdlib>
#include <functional>
#include <new>

#include <malloc.h>

namespace {

thread_local std::uint64_t operations = 0;
std::atomic<std::uint64_t> in_use{0};
std::atomic<std::uint64_t> most{0};

void* counted(std::size_t size) {
  void* out = std::malloc(size);
  if (out == nullptr) throw std::bad_alloc();
  const std::uint64_t now = in_use += malloc_usable_size(out);
  std::uint64_t before = most;
  while (now > before && !most.compare_exchange_weak(before, now)) {
  }
  return out;
}

void released(void* memory) {
  if (memory != nullptr) in_use -= malloc_usable_size(memory);
  std::free(memory);
}

}  // namespace

extern "C" void __sanitizer_cov_trace_pc();
extern "C" void __sanitizer_cov_trace_pc() {
  ++operations;
}

void* operator new(std::size_t size) {
  return counted(size);
}
void* operator new[](std::size_t size) {
  return counted(size);
}
void operator delete(void* memory) noexcept {
  released(memory);
}
void operator delete[](void* memory) noexcept {
  released(memory);
}
void operator delete(void* memory, std::size_t /*size*/) noexcept {
  released(memory);
}
void operator delete[](void* memory, std::size_t /*size*/) noexcept {
  released(memory);
}

namespace bounds {

Cost cost_of(const std::function<void()>& work) {
  const std::uint64_t before = in_use;
  most = before;
  operations = 0;
  work();
  return {operations, most - before};
}

}  // namespace bounds
