#include "base/descriptor.h"

#include <cerrno>
#include <filesystem>
#include <memory>
#include <string_view>

#include <dirent.h>
#include <fcntl.h>
#include <unistd.h>

namespace nuvrat {
using namespace base;

Descriptor::Descriptor(int file) : file_(file) {
  if (file_ < 0 || file_ > 2) return;
  file_ = ::fcntl(file, F_DUPFD_CLOEXEC, 3);
  const int error = errno;
  ::close(file);
  errno = error;
}

Descriptor& Descriptor::operator=(Descriptor&& other) noexcept {
  reset();
  file_ = other.release();
  return *this;
}

void Descriptor::reset() {
  if (file_ >= 0) ::close(release());
}

Descriptor base::open_file(const std::filesystem::path& path, int flags, unsigned mode) {
  return open_file_at(AT_FDCWD, path, flags, mode);
}

Descriptor base::open_file_at(int folder, const std::filesystem::path& name, int flags,
                              unsigned mode) {
  return Descriptor(::openat(folder, name.c_str(), flags | O_CLOEXEC, mode));
}

std::vector<std::filesystem::path> base::entries_of(const std::filesystem::path& folder) {
  std::vector<std::filesystem::path> out;
  const auto close = [](DIR* open) { ::closedir(open); };
  const std::unique_ptr<DIR, decltype(close)> open(::opendir(folder.c_str()), close);
  while (open != nullptr) {
    const dirent* entry = ::readdir(open.get());
    if (entry == nullptr) break;
    const std::string_view name = entry->d_name;
    if (name != "." && name != "..") out.push_back(folder / name);
  }
  return out;
}

}  // namespace nuvrat
