#pragma once
// The list of what a new format can't hold, as lines of JSON: docs/formats/left-behind.md.

#include <string>

#include <nuvrat/checksum.h>

namespace nuvrat::json {

struct LeftBehindItem {
  unsigned partition = 0;
  std::string path;
  std::string what;  ///< docs/formats/left-behind.md lists them
  std::string name;  ///< of a stream; of a second name, the path of the first; an object id
  std::uint64_t bytes = 0;
  Digest digest;
  std::string file;  ///< in the folder; empty where nothing is kept but this line
};
[[nodiscard]] std::string left_behind_head();
[[nodiscard]] std::string left_behind_line(const LeftBehindItem& item);

}  // namespace nuvrat::json
