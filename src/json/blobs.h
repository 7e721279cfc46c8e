#pragma once
// Bytes of steps, kept beside the JSON that names them: docs/formats/case.md.

#include <nuvrat/bytes.h>

namespace nuvrat::json {

/// One after the other, in the order in which they were added.
class Blobs {
 public:
  Blobs() = default;
  explicit Blobs(Bytes bytes) : bytes_(std::move(bytes)) {}
  /// Where it begins.
  std::uint64_t add(ByteView bytes) {
    const std::uint64_t at = bytes_.size();
    bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
    return at;
  }
  [[nodiscard]] const Bytes& bytes() const { return bytes_; }

 private:
  Bytes bytes_;
};

}  // namespace nuvrat::json
