#pragma once
// A file descriptor with an owner. Never 0, 1 or 2: a program that was started with one of these
// closed would otherwise print its own text onto whatever is opened next.

#include <filesystem>
#include <utility>
#include <vector>

namespace nuvrat::base {

class Descriptor {
 public:
  Descriptor() = default;
  /// Takes `file` over, or a duplicate above 2 of it. Negative: none; errno stays as it is.
  explicit Descriptor(int file);
  Descriptor(Descriptor&& other) noexcept : file_(other.release()) {}
  Descriptor& operator=(Descriptor&& other) noexcept;
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  ~Descriptor() { reset(); }

  [[nodiscard]] int get() const { return file_; }
  [[nodiscard]] bool valid() const { return file_ >= 0; }
  int release() { return std::exchange(file_, -1); }
  void reset();

 private:
  int file_ = -1;
};

/// open(2), close-on-exec. Not valid, with errno, where it fails.
[[nodiscard]] Descriptor open_file(const std::filesystem::path& path, int flags,
                                   unsigned mode = 0600);
/// The same, of a name in a folder that is open already (AT_FDCWD: the working one).
[[nodiscard]] Descriptor open_file_at(int folder, const std::filesystem::path& name, int flags,
                                      unsigned mode = 0600);

/// What a folder holds; nothing of one that isn't there or vanishes meanwhile. The standard's own
/// walk ends the program where memory is short.
[[nodiscard]] std::vector<std::filesystem::path> entries_of(const std::filesystem::path& folder);

}  // namespace nuvrat::base
