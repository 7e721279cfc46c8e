#include "tree/hash_workers.h"

#include <algorithm>
#include <exception>

#include <fmt/core.h>

#include <nuvrat/error.h>

namespace nuvrat {
using namespace tree;
namespace {

constexpr std::size_t task_bytes = 1u << 20;
// Between two files a task ends sooner: one that ends inside a file binds the next to its worker.
constexpr std::size_t enough_bytes = 256u << 10;
constexpr std::size_t max_waiting = 4u << 20;  // of one worker

}  // namespace

unsigned HashWorkers::count() {
  return std::clamp(std::thread::hardware_concurrency(), 1u, 8u);
}

HashWorkers::HashWorkers(std::vector<Digest>& digests) : digests_(digests), workers_(count()) {
  for (Worker& worker : workers_) {
    try {
      worker.thread = std::thread([this, &worker] { work(worker); });
    } catch (const std::exception& e) {  // threads, or the memory for one
      if (&worker == &workers_.front())
        throw Error(ErrorCode::file, fmt::format("the system starts no thread: {}", e.what()));
      break;  // fewer do it as well
    }
    ++started_;
  }
}

HashWorkers::~HashWorkers() {
  {
    const std::lock_guard lock(mutex_);
    stopping_ = true;
  }
  changed_.notify_all();
  for (std::size_t i = 0; i < started_; ++i) workers_[i].thread.join();
}

void HashWorkers::add(ByteView bytes) {
  while (!bytes.empty()) {
    const std::size_t n = std::min(bytes.size(), task_bytes - current_.data.size());
    const auto part = bytes.first(n);
    current_.data.insert(current_.data.end(), part.begin(), part.end());
    bytes = bytes.subspan(n);
    if (current_.data.size() == task_bytes) push();
  }
}

void HashWorkers::end(FileTree::Id id) {
  current_.ends.push_back({current_.data.size(), id});
  if (current_.ends.size() >= 1024 || current_.data.size() >= enough_bytes) push();
}

void HashWorkers::push() {
  std::unique_lock lock(mutex_);
  Worker* to = pinned_;
  if (to == nullptr) {
    to = &*std::min_element(workers_.begin(),
                            workers_.begin() + static_cast<std::ptrdiff_t>(started_),
                            [](const Worker& a, const Worker& b) { return a.bytes < b.bytes; });
  }
  changed_.wait(lock, [this, to] { return to->bytes < max_waiting || failed_; });
  if (failed_) std::rethrow_exception(failed_);
  const bool goes_on = current_.ends.empty() || current_.ends.back().at < current_.data.size();
  pinned_ = goes_on ? to : nullptr;
  to->bytes += current_.data.size();
  to->tasks.push_back(std::move(current_));
  current_ = {};
  lock.unlock();
  changed_.notify_all();
}

void HashWorkers::finish() {
  if (!current_.ends.empty() || !current_.data.empty()) push();
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [this] {
    return failed_ || std::all_of(workers_.begin(), workers_.end(),
                                  [](const Worker& w) { return w.tasks.empty() && !w.working; });
  });
  if (failed_) std::rethrow_exception(failed_);
}

// What goes wrong in a thread goes on in the one that gives it work.
void HashWorkers::work(Worker& worker) noexcept {
  try {
    hash_all(worker);
  } catch (...) {
    const std::lock_guard lock(mutex_);
    failed_ = std::current_exception();
    changed_.notify_all();
  }
}

void HashWorkers::hash_all(Worker& worker) {
  Sha256 sha;
  std::unique_lock lock(mutex_);
  while (true) {
    changed_.wait(lock, [this, &worker] { return stopping_ || !worker.tasks.empty(); });
    if (stopping_) return;
    const Task task = std::move(worker.tasks.front());
    worker.tasks.pop_front();
    worker.working = true;
    lock.unlock();
    std::size_t at = 0;
    for (const End& e : task.ends) {
      sha.add(ByteView(task.data).subspan(at, e.at - at));
      digests_[e.id] = sha.finish();  // each file has its own place: no other thread writes it
      sha.reset();
      at = e.at;
    }
    sha.add(ByteView(task.data).subspan(at));
    lock.lock();
    worker.bytes -= task.data.size();
    worker.working = false;
    changed_.notify_all();
  }
}

}  // namespace nuvrat
