#include "json/left_behind.h"

#include "json/pieces.h"

namespace nuvrat::json {

std::string left_behind_head() {
  return Json{{"schema", "nuvrat.left-behind/1"}}.dump() + "\n";
}

std::string left_behind_line(const LeftBehindItem& item) {
  Json line = {{"partition", item.partition}, {"what", item.what}};
  put_text(line, "path", item.path);
  if (!item.name.empty()) put_text(line, "name", item.name);
  if (!item.file.empty()) {
    line["bytes"] = item.bytes;
    line["sha256"] = item.digest.hex();
    line["file"] = item.file;
  }
  return line.dump() + "\n";
}

}  // namespace nuvrat::json
