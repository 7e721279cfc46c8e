// Loaded in front of the C library by tests: what a program does to files under NUVRAT_ROOT is
// written to NUVRAT_TRACE as it happens; memory runs out, or a file can't be read, when it is told.
//
//   C path ino     a file was made            M path      a folder was made
//   W ino at size  bytes follow               T ino size  its length was set
//   S ino          it was synced              D path      a folder was synced
//   R from TAB to  a name was changed         U path      a name was taken away
//
// NUVRAT_NO_MEMORY=N fails the Nth allocation behind the first opening of such a file; =N+ that one
// and every later one of a kibibyte or more. NUVRAT_NO_READ=name fails reads of files that end so.
// NUVRAT_NO_THREADS=N starts no thread from the Nth on.

#include <atomic>
#include <cerrno>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>

#include <dlfcn.h>
#include <fcntl.h>
#include <linux/limits.h>
#include <pthread.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

extern "C" void* __libc_malloc(std::size_t size);

namespace {

std::atomic<bool> counting{false};
std::atomic<long> allocations{0};

struct Text {
  char bytes[2 * PATH_MAX + 64];
  int length = 0;
};

const char* root() {
  static const char* const text = std::getenv("NUVRAT_ROOT");
  return text;
}
bool inside(const char* path) {
  return root() != nullptr && std::strncmp(path, root(), std::strlen(root())) == 0;
}
bool path_of(int file, char* out) {
  char link[64];
  std::snprintf(link, sizeof link, "/proc/self/fd/%d", file);
  const ssize_t n = ::readlink(link, out, PATH_MAX - 1);
  if (n <= 0) return false;
  out[n] = '\0';
  return inside(out);
}
void full_path(int folder, const char* name, char* out) {
  if (name[0] == '/' || folder == AT_FDCWD) {
    std::snprintf(out, PATH_MAX, "%s", name);
    return;
  }
  char above[PATH_MAX] = "";
  (void)path_of(folder, above);
  std::snprintf(out, PATH_MAX, "%.2000s/%.2000s", above, name);
}
void put(const Text& head, const void* data = nullptr, std::size_t size = 0) {
  static const char* const name = std::getenv("NUVRAT_TRACE");
  if (name == nullptr) return;
  static const int file =
      static_cast<int>(::syscall(SYS_openat, AT_FDCWD, name, O_WRONLY | O_APPEND | O_CREAT, 0600));
  (void)::syscall(SYS_write, file, head.bytes, head.length);
  if (size > 0) (void)::syscall(SYS_write, file, data, size);
}
template <typename... Args>
Text say(const char* format, Args... args) {
  Text out;
  out.length = std::snprintf(out.bytes, sizeof out.bytes, format, args...);
  return out;
}
unsigned long number_of(int file) {
  struct stat info {};
  return ::fstat(file, &info) == 0 ? info.st_ino : 0;
}

bool fails(std::size_t size) {
  static const char* const plan = std::getenv("NUVRAT_NO_MEMORY");
  if (plan == nullptr || !counting) return false;
  static const long wanted = std::atol(plan);
  static const bool ever = std::strchr(plan, '+') != nullptr;
  const long now = ++allocations;
  return now == wanted || (ever && now > wanted && size >= 1024);
}

int opened(int folder, const char* name, int flags, unsigned mode) {
  char path[PATH_MAX];
  full_path(folder, name, path);
  const bool ours = inside(path) && (flags & O_DIRECTORY) == 0;
  const bool made = ours && (flags & O_CREAT) != 0 && ::access(path, F_OK) != 0;
  const int file = static_cast<int>(::syscall(SYS_openat, folder, name, flags, mode));
  if (!ours || file < 0) return file;
  counting = true;
  if (made) put(say("C %s\t%lu\n", path, number_of(file)));
  if (!made && (flags & O_TRUNC) != 0) put(say("T %lu 0\n", number_of(file)));
  return file;
}

bool unreadable(int file) {
  static const char* const suffix = std::getenv("NUVRAT_NO_READ");
  char path[PATH_MAX];
  if (suffix == nullptr || !path_of(file, path)) return false;
  const std::size_t n = std::strlen(path), m = std::strlen(suffix);
  return n >= m && std::strcmp(path + n - m, suffix) == 0;
}

void wrote(int file, const void* data, ssize_t size, long at) {
  char path[PATH_MAX];
  if (size > 0 && path_of(file, path))
    put(say("W %lu %ld %zd\n", number_of(file), at, size), data, static_cast<std::size_t>(size));
}

int synced(int file, long call) {
  const int status = static_cast<int>(::syscall(call, file));
  char path[PATH_MAX];
  struct stat info {};
  if (status == 0 && path_of(file, path) && ::fstat(file, &info) == 0)
    put(S_ISDIR(info.st_mode) ? say("D %s\n", path) : say("S %lu\n", info.st_ino));
  return status;
}

int renamed(int from_folder, const char* from, int to_folder, const char* to) {
  char a[PATH_MAX], b[PATH_MAX];
  full_path(from_folder, from, a);
  full_path(to_folder, to, b);
  const int status =
      static_cast<int>(::syscall(SYS_renameat2, from_folder, from, to_folder, to, 0u));
  if (status == 0 && inside(a)) put(say("R %s\t%s\n", a, b));
  return status;
}

int unlinked(int folder, const char* name, int flags) {
  char path[PATH_MAX];
  full_path(folder, name, path);
  const int status = static_cast<int>(::syscall(SYS_unlinkat, folder, name, flags));
  if (status == 0 && inside(path)) put(say("U %s\n", path));
  return status;
}

unsigned mode_of(int flags, va_list list) {
  return (flags & (O_CREAT | O_TMPFILE)) != 0 ? va_arg(list, unsigned) : 0;
}

}  // namespace

extern "C" {

int pthread_create(pthread_t* thread, const pthread_attr_t* attributes, void* (*start)(void*),
                   void* argument) {
  static std::atomic<long> started{0};
  static const char* const plan = std::getenv("NUVRAT_NO_THREADS");
  if (plan != nullptr && ++started >= std::atol(plan)) return EAGAIN;
  using Create = int (*)(pthread_t*, const pthread_attr_t*, void* (*)(void*), void*);
  static const auto create = reinterpret_cast<Create>(::dlsym(RTLD_NEXT, "pthread_create"));
  return create(thread, attributes, start, argument);
}
void* malloc(std::size_t size) {
  if (fails(size)) {
    errno = ENOMEM;
    return nullptr;
  }
  return __libc_malloc(size);
}

int open(const char* name, int flags, ...) {
  va_list list;
  va_start(list, flags);
  const unsigned mode = mode_of(flags, list);
  va_end(list);
  return opened(AT_FDCWD, name, flags, mode);
}
int openat(int folder, const char* name, int flags, ...) {
  va_list list;
  va_start(list, flags);
  const unsigned mode = mode_of(flags, list);
  va_end(list);
  return opened(folder, name, flags, mode);
}
ssize_t write(int file, const void* data, std::size_t size) {
  struct stat info {};
  const long at =
      ::fstat(file, &info) == 0 && S_ISREG(info.st_mode)
          ? ((::fcntl(file, F_GETFL) & O_APPEND) != 0 ? info.st_size : ::lseek(file, 0, SEEK_CUR))
          : 0;
  const ssize_t n = ::syscall(SYS_write, file, data, size);
  wrote(file, data, n, at);
  return n;
}
ssize_t pwrite(int file, const void* data, std::size_t size, off_t at) {
  const ssize_t n = ::syscall(SYS_pwrite64, file, data, size, at);
  wrote(file, data, n, at);
  return n;
}
ssize_t pwrite64(int file, const void* data, std::size_t size, off64_t at) {
  return pwrite(file, data, size, at);
}
ssize_t pread(int file, void* data, std::size_t size, off_t at) {
  if (unreadable(file)) {
    errno = EIO;
    return -1;
  }
  return ::syscall(SYS_pread64, file, data, size, at);
}
ssize_t pread64(int file, void* data, std::size_t size, off64_t at) {
  return pread(file, data, size, at);
}
ssize_t read(int file, void* data, std::size_t size) {
  if (unreadable(file)) {
    errno = EIO;
    return -1;
  }
  return ::syscall(SYS_read, file, data, size);
}
int ftruncate(int file, off_t size) {
  const int status = static_cast<int>(::syscall(SYS_ftruncate, file, size));
  char path[PATH_MAX];
  if (status == 0 && path_of(file, path)) put(say("T %lu %ld\n", number_of(file), size));
  return status;
}
int ftruncate64(int file, off64_t size) {
  return ftruncate(file, size);
}
int fsync(int file) {
  return synced(file, SYS_fsync);
}
int fdatasync(int file) {
  return synced(file, SYS_fdatasync);
}
int rename(const char* from, const char* to) {
  return renamed(AT_FDCWD, from, AT_FDCWD, to);
}
int renameat(int a, const char* from, int b, const char* to) {
  return renamed(a, from, b, to);
}
int unlink(const char* name) {
  return unlinked(AT_FDCWD, name, 0);
}
int unlinkat(int folder, const char* name, int flags) {
  return unlinked(folder, name, flags);
}
int mkdir(const char* name, mode_t mode) {
  const int status = static_cast<int>(::syscall(SYS_mkdirat, AT_FDCWD, name, mode));
  if (status == 0 && inside(name)) put(say("M %s\n", name));
  return status;
}
}
