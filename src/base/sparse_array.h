#pragma once
// An array whose length a disk may claim, and whose memory follows what is really there.

#include <array>
#include <cstdint>
#include <memory>
#include <unordered_map>

namespace nuvrat::base {

template <typename T>
class SparseArray {
 public:
  /// The item, made if it isn't there.
  [[nodiscard]] T& operator[](std::uint64_t index) {
    auto& chunk = chunks_[index / chunk_items];
    if (chunk == nullptr) chunk = std::make_unique<Chunk>();
    return chunk->items[index % chunk_items];
  }
  /// The item is wanted until it is let go; the memory of items that lie together goes with the
  /// last of them. Each call of the one has one of the other.
  void hold(std::uint64_t index) { ++chunks_.at(index / chunk_items)->held; }
  void let_go(std::uint64_t index) {
    const auto it = chunks_.find(index / chunk_items);
    if (--it->second->held == 0) chunks_.erase(it);
  }
  /// Null where neither it nor one near it was made.
  [[nodiscard]] T* find(std::uint64_t index) const {
    const auto it = chunks_.find(index / chunk_items);
    return it == chunks_.end() ? nullptr : &it->second->items[index % chunk_items];
  }
  /// Calls each(index, item) for every item of the chunks that are there, in no order.
  template <typename Each>
  void each(Each visit) const {
    for (const auto& [chunk, kept] : chunks_) {
      for (std::size_t i = 0; i < chunk_items; ++i) visit(chunk * chunk_items + i, kept->items[i]);
    }
  }
  void clear() { chunks_.clear(); }

 private:
  static constexpr std::uint64_t chunk_items = 256;
  struct Chunk {
    std::array<T, chunk_items> items{};
    std::uint64_t held = 0;
  };
  std::unordered_map<std::uint64_t, std::unique_ptr<Chunk>> chunks_;
};

}  // namespace nuvrat::base
