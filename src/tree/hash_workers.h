#pragma once
// Hashing on every core while one thread reads in the order of the disk.

#include <condition_variable>
#include <deque>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

#include <nuvrat/checksum.h>
#include <nuvrat/file_tree.h>

namespace nuvrat::tree {

/// Takes files one after the other, each in pieces, and puts their SHA-256 into `digests`. The
/// caller's thread never hashes; it waits when the workers are a few MiB behind.
class HashWorkers {
 public:
  /// How many there are on this machine, unless the system starts fewer.
  [[nodiscard]] static unsigned count();
  /// `digests` must not change its size before finish().
  explicit HashWorkers(std::vector<Digest>& digests);
  /// Gives up what is not hashed yet.
  ~HashWorkers();
  HashWorkers(const HashWorkers&) = delete;
  HashWorkers& operator=(const HashWorkers&) = delete;

  /// More of the present file.
  void add(ByteView bytes);
  /// The present file is complete: it was this one.
  void end(FileTree::Id id);
  /// Returns when every file is hashed.
  void finish();

 private:
  struct End {
    std::size_t at;  // in the task's data
    FileTree::Id id;
  };
  // Contents of several small files, or a piece of a large one. What follows the last end belongs
  // to a file that goes on in the same worker's next task.
  struct Task {
    Bytes data;
    std::vector<End> ends;
  };
  struct Worker {
    std::thread thread;
    std::deque<Task> tasks;
    std::size_t bytes = 0;  // waiting or in work
    bool working = false;
  };

  void push();
  void work(Worker& worker) noexcept;
  void hash_all(Worker& worker);

  std::vector<Digest>& digests_;
  std::vector<Worker> workers_;
  std::size_t started_ = 0;  // of them, from the first
  std::mutex mutex_;
  std::exception_ptr failed_;  // of any thread
  std::condition_variable changed_;
  bool stopping_ = false;
  Task current_;
  Worker* pinned_ = nullptr;  // has the beginning of the present file
};

}  // namespace nuvrat::tree
