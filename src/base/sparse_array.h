#pragma once
// An array whose length a disk may claim, and whose memory follows what is really there.

#include <array>
#include <cstdint>
#include <memory>
#include <unordered_map>

namespace nuvrat {

template <typename T>
class SparseArray {
 public:
  /// The item, made if it isn't there.
  [[nodiscard]] T& operator[](std::uint64_t index) {
    auto& chunk = chunks_[index / chunk_items];
    if (chunk == nullptr) chunk = std::make_unique<std::array<T, chunk_items>>();
    return (*chunk)[index % chunk_items];
  }
  /// Null where neither it nor one near it was made.
  [[nodiscard]] T* find(std::uint64_t index) const {
    const auto it = chunks_.find(index / chunk_items);
    return it == chunks_.end() ? nullptr : &(*it->second)[index % chunk_items];
  }
  void clear() { chunks_.clear(); }

 private:
  static constexpr std::uint64_t chunk_items = 256;
  std::unordered_map<std::uint64_t, std::unique_ptr<std::array<T, chunk_items>>> chunks_;
};

}  // namespace nuvrat
