#include <string_view>

#include <nuvrat/version.h>

namespace nuvrat {
namespace {

// "0.1.0" against the numbers of the headers.
constexpr bool is_version(std::string_view text, unsigned major, unsigned minor, unsigned patch) {
  for (const unsigned wanted : {major, minor, patch}) {
    unsigned number = 0;
    while (!text.empty() && text.front() != '.') {
      number = number * 10 + static_cast<unsigned>(text.front() - '0');
      text.remove_prefix(1);
    }
    if (number != wanted) return false;
    if (!text.empty()) text.remove_prefix(1);
  }
  return text.empty();
}
static_assert(is_version(NUVRAT_VERSION, NUVRAT_VERSION_MAJOR, NUVRAT_VERSION_MINOR,
                         NUVRAT_VERSION_PATCH));

}  // namespace

const char* version() {
  return NUVRAT_VERSION;
}

}  // namespace nuvrat
