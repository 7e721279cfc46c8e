#include "base/whole_file.h"

#include <array>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <streambuf>

#include <fcntl.h>
#include <fmt/core.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nuvrat/error.h>

#include "base/descriptor.h"

namespace nuvrat {
using namespace base;
namespace {

Error file_error(const std::string& what, int error, const std::filesystem::path& path) {
  return {ErrorCode::file,
          fmt::format("{}: {}", what, std::strerror(error)),
          {.path = path.string()},
          error == ENOSPC || error == EDQUOT || error == EFBIG
              ? "Make room there, or name a place with more"
              : "Name a place in a folder that exists and may be written"};
}

}  // namespace

// An ostream's buffer over a descriptor; remembers the first error.
class WholeFile::Buffer final : public std::streambuf {
 public:
  explicit Buffer(int file) : file_(file) { setp(buffer_.data(), buffer_.data() + buffer_.size()); }
  [[nodiscard]] int error() const { return error_; }

 private:
  int_type overflow(int_type c) override {
    if (sync() != 0) return traits_type::eof();
    if (!traits_type::eq_int_type(c, traits_type::eof())) sputc(traits_type::to_char_type(c));
    return traits_type::not_eof(c);
  }
  int sync() override {
    const char* at = pbase();
    while (error_ == 0 && at < pptr()) {
      const ssize_t n = ::write(file_, at, static_cast<std::size_t>(pptr() - at));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) error_ = errno;
      if (n > 0) at += n;
    }
    setp(buffer_.data(), buffer_.data() + buffer_.size());
    return error_ == 0 ? 0 : -1;
  }

  int file_;
  int error_ = 0;
  std::array<char, 1 << 16> buffer_{};
};

class WholeFile::Impl {
 public:
  Impl(const std::filesystem::path& given, unsigned mode, Sync sync) : path_(given), sync_(sync) {
    const bool for_others = (mode & 077) != 0;
    // A symbolic link stays one: what it leads to is replaced.
    std::error_code ignored;
    if (for_others && std::filesystem::is_symlink(given, ignored))
      path_ = std::filesystem::weakly_canonical(given, ignored);
    const std::filesystem::path& path = path_;
    struct stat info {};
    straight_ = for_others && ::stat(path.c_str(), &info) == 0 &&
                (S_ISFIFO(info.st_mode) || S_ISCHR(info.st_mode));
    if (for_others && given == "-") {
      straight_ = true;
      file_ = Descriptor(::fcntl(1, F_DUPFD_CLOEXEC, 3));
    } else if (straight_) {
      file_ = open_file(path, O_WRONLY);
    } else {
      const std::filesystem::path above = path.parent_path().empty() ? "." : path.parent_path();
      folder_ = open_file(above, O_RDONLY | O_DIRECTORY);
      if (!folder_.valid()) throw file_error("the folder can't be opened", errno, above);
      // A name of its own, however often a program was cut off here before.
      for (int i = 0; !file_.valid() && i < 100; ++i) {
        constexpr std::size_t room = 200;  // of the 255 bytes that a name may have
        part_ =
            fmt::format("{}.{}-{}.part", path.filename().string().substr(0, room), ::getpid(), i);
        file_ = open_file_at(folder_.get(), part_, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW, mode);
        if (!file_.valid() && errno != EEXIST) break;
      }
    }
    if (!file_.valid()) throw file_error("the file can't be written", errno, path);
    buffer_ = std::make_unique<Buffer>(file_.get());
    out_.rdbuf(buffer_.get());
  }

  ~Impl() {
    if (!part_.empty()) ::unlinkat(folder_.get(), part_.c_str(), 0);
  }
  Impl(const Impl&) = delete;
  Impl& operator=(const Impl&) = delete;

  std::ostream& out() { return out_; }

  void zeros(std::uint64_t count) {
    out_.flush();
    // The last byte is written: the file ends there, whatever follows.
    if (!straight_ && count > 1 &&
        ::lseek(file_.get(), static_cast<off_t>(count - 1), SEEK_CUR) >= 0)
      count = 1;
    for (; count > 0 && out_.good(); --count) out_.put(0);
  }

  void finish() {
    out_.flush();
    int error = buffer_->error();
    if (straight_) {
      if (error != 0) throw file_error("it could not be written to its end", error, path_);
      return;
    }
    const bool now = sync_ == Sync::now;
    if (error == 0 && now && ::fsync(file_.get()) != 0) error = errno;
    const std::string name = path_.filename().string();
    if (error == 0 && ::renameat(folder_.get(), part_.c_str(), folder_.get(), name.c_str()) != 0)
      error = errno;
    if (error == 0) part_.clear();
    if (error == 0 && now && ::fsync(folder_.get()) != 0) error = errno;
    if (error != 0) throw file_error("the file could not be written to its end", error, path_);
  }

 private:
  std::filesystem::path path_;
  Sync sync_;
  bool straight_ = false;
  Descriptor folder_, file_;
  std::string part_;  // as long as it is there
  std::unique_ptr<Buffer> buffer_;
  std::ostream out_{nullptr};
};

WholeFile::WholeFile(const std::filesystem::path& path, unsigned mode, Sync sync)
    : impl_(std::make_unique<Impl>(path, mode, sync)) {}
WholeFile::~WholeFile() = default;
std::ostream& WholeFile::out() {
  return impl_->out();
}
void WholeFile::zeros(std::uint64_t count) {
  impl_->zeros(count);
}
void WholeFile::finish() {
  impl_->finish();
}

void base::write_whole_file(const std::filesystem::path& path, std::string_view contents,
                            unsigned mode) {
  WholeFile file(path, mode);
  file.out() << contents;
  file.finish();
}

void base::sync_folder(const std::filesystem::path& folder) {
  const std::filesystem::path name = folder.empty() ? "." : folder;
  const Descriptor file = open_file(name, O_RDONLY | O_DIRECTORY);
  if (!file.valid() || ::fsync(file.get()) != 0)
    throw file_error("the folder could not be made durable", errno, name);
}

}  // namespace nuvrat
