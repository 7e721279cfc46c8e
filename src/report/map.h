#pragma once
// The disk drawn to scale in characters: a box for each partition, free room between.

#include <string>
#include <vector>

#include <nuvrat/report.h>

namespace nuvrat::report {

struct MapCell {
  std::uint64_t start = 0;
  std::uint64_t sectors = 0;
  std::string number;  ///< "p5"; empty for free room
  std::string mark;    ///< "deleted", "new", "was p6": said after the number where there is room
  std::string holds;   ///< "fat32"
  std::string label;
  std::string role;
  double used = 0;  ///< share of it that files and structures take, 0 to 1: a heavy line
  bool in_extended = false;
};

/// Cells for a layout, free room included where it is wide enough to be seen.
[[nodiscard]] std::vector<MapCell> map_cells(const Layout& layout,
                                             const std::vector<Contents>& contents);
/// Cells of an assessment's layouts, with a mark on those that go, come or get another number.
[[nodiscard]] std::vector<MapCell> marked_before(const Assessment& assessment);
[[nodiscard]] std::vector<MapCell> marked_after(const Assessment& assessment);
/// Lines of at most style.width columns, each ending with a line feed; empty when there are more
/// partitions than fit.
[[nodiscard]] std::string draw_map(const std::vector<MapCell>& cells, const TextStyle& style);

}  // namespace nuvrat::report
