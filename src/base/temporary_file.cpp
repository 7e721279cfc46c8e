#include "base/temporary_file.h"

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include <fcntl.h>
#include <fmt/core.h>
#include <unistd.h>

#include <nuvrat/error.h>

namespace nuvrat {
using namespace base;

Descriptor base::temporary_file(const std::filesystem::path& folder, const std::string& remedy) {
  std::string name = (folder / "nuvrat-XXXXXX").string();
  Descriptor out(::mkostemp(name.data(), O_CLOEXEC));
  if (!out.valid())
    throw Error(ErrorCode::file, fmt::format("no temporary file: {}", std::strerror(errno)),
                {.path = name}, remedy);
  ::unlink(name.c_str());
  return out;
}

}  // namespace nuvrat
