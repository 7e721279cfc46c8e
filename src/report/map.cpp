#include "report/map.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include <fmt/core.h>

#include <nuvrat/columns.h>
#include <nuvrat/text.h>

#include "report/style.h"
#include "report/words.h"

namespace nuvrat::report {
namespace {

// A partition is always wide enough for its number and "fat32", free room for a sign of itself.
std::size_t min_width(const MapCell& cell) {
  return cell.number.empty() ? 2 : 5;
}

std::size_t min_room(const std::vector<MapCell>& cells) {
  return std::accumulate(cells.begin(), cells.end(), std::size_t{0},
                         [](std::size_t sum, const MapCell& c) { return sum + min_width(c); });
}

MapCell free_cell(std::uint64_t start, std::uint64_t end) {
  MapCell cell;
  cell.start = start;
  cell.sectors = end - start;
  cell.holds = "free";
  return cell;
}

// Columns for each cell, borders not counted: the least for every one, the rest by size.
std::vector<std::size_t> widths_of(const std::vector<MapCell>& cells, std::size_t room) {
  std::vector<std::size_t> out(cells.size());
  std::transform(cells.begin(), cells.end(), out.begin(), min_width);
  const double total = std::accumulate(
      cells.begin(), cells.end(), 0.0,
      [](double sum, const MapCell& c) { return sum + static_cast<double>(c.sectors); });
  std::vector<double> wanted(cells.size());
  for (std::size_t i = 0; i < cells.size(); ++i) {
    wanted[i] = static_cast<double>(cells[i].sectors) / total * static_cast<double>(room);
  }
  for (std::size_t left = room - min_room(cells); left > 0; --left) {
    // The cell that is furthest below its share gets the next column.
    std::size_t best = 0;
    for (std::size_t i = 1; i < cells.size(); ++i) {
      if (wanted[i] - static_cast<double>(out[i]) > wanted[best] - static_cast<double>(out[best]))
        best = i;
    }
    ++out[best];
  }
  return out;
}

// By what it holds.
Tone tone_of(const MapCell& cell) {
  if (cell.number.empty()) return Tone::quiet;
  if (cell.mark == "deleted") return Tone::bad;
  if (cell.holds.starts_with("fat")) return Tone::fat;
  return cell.holds == "ntfs" ? Tone::ntfs : Tone::other;
}

std::string repeat(const char* text, std::size_t times) {
  std::string out;
  for (std::size_t i = 0; i < times; ++i) out += text;
  return out;
}

// A word where it fits, a shorter one where that does, nothing otherwise.
std::string role_word(const std::string& role, std::size_t width) {
  if (role.size() <= width) return role;
  const std::string brief = role.substr(0, role == "logical" ? 3 : 4);
  return brief.size() <= width ? brief : "";
}

struct BorderWidth {
  std::size_t all = 0;
  std::size_t heavy = 0;  // from the left
};

// A border with a word in it: "p1 ━━━──".
std::string border(const std::string& word, BorderWidth width, const char* line) {
  const std::string text = fit(word, width.all, false);
  const std::size_t taken = display_width(text);
  const std::size_t heavy = width.heavy > taken ? width.heavy - taken : 0;
  return text + repeat("━", heavy) + repeat(line, width.all - taken - heavy);
}

std::size_t used_columns(const MapCell& cell, std::size_t width) {
  return static_cast<std::size_t>(std::lround(cell.used * static_cast<double>(width)));
}

std::string title_of(const MapCell& cell, std::size_t width) {
  if (cell.mark.empty() || cell.number.size() + 1 + cell.mark.size() > width) return cell.number;
  return cell.number + " " + cell.mark;
}

std::string extended_line(const std::vector<MapCell>& cells,
                          const std::vector<std::size_t>& widths) {
  std::size_t from = 0;
  std::size_t to = 0;
  std::size_t at = 1;
  for (std::size_t i = 0; i < cells.size(); ++i) {
    if (cells[i].in_extended) {
      if (to == 0) from = at;
      to = at + widths[i];
    }
    at += widths[i] + 1;
  }
  if (to == 0) return "";
  const std::string word = to - from >= 12 ? " extended " : to - from >= 5 ? " ext " : "";
  const std::size_t rest = to - from - word.size();
  return std::string(from + 2, ' ') + repeat("═", rest / 2) + word + repeat("═", rest - rest / 2) +
         "\n";
}

}  // namespace

std::vector<MapCell> map_cells(const Layout& layout, const std::vector<Contents>& contents) {
  std::vector<MapCell> out;
  const std::uint64_t visible = layout.disk_sectors / 100;
  const Partition* extended = layout.extended();
  std::uint64_t at = 0;
  const auto gap_until = [&](std::uint64_t end) {
    if (end <= at || end - at < visible) return;
    MapCell cell = free_cell(at, end);
    cell.in_extended =
        extended != nullptr && cell.start >= extended->start && end <= extended->range().end();
    out.push_back(cell);
  };
  for (const Partition& p : layout.data_partitions()) {
    gap_until(p.start);
    MapCell cell;
    cell.start = p.start;
    cell.sectors = std::max<std::uint64_t>(p.sectors, 1);
    cell.number = part_name(p.number);
    cell.role = p.number == 0 ? "" : name_of(p.role);
    cell.in_extended = p.role == Role::logical;
    const auto it = std::find_if(contents.begin(), contents.end(),
                                 [&p](const Contents& c) { return c.partition == p.id; });
    if (it != contents.end()) {
      cell.holds = it->kind;
      cell.label = printable(it->label);
    }
    out.push_back(cell);
    at = std::max(at, p.start + cell.sectors);
  }
  gap_until(layout.disk_sectors);
  return out;
}

std::string draw_map(const std::vector<MapCell>& cells, const TextStyle& style) {
  const std::size_t borders = cells.size() + 1;
  const std::size_t indent = 2;
  if (cells.empty() || style.width < indent + borders + min_room(cells)) return "";
  const std::vector<std::size_t> widths = widths_of(cells, style.width - indent - borders);
  std::string top = "  ┌";
  std::string middle = "  │";
  std::string label = "  │";
  std::string bottom = "  └";
  bool labelled = false;
  for (std::size_t i = 0; i < cells.size(); ++i) {
    const MapCell& c = cells[i];
    const bool last = i + 1 == cells.size();
    const char* line = c.number.empty() ? "┄" : "─";
    const auto tint = [&](const std::string& text) {
      return paint(toned(tone_of(c), text), style);
    };
    top += tint(border(title_of(c, widths[i]), {widths[i], used_columns(c, widths[i])}, line)) +
           (last ? "┐\n" : "┬");
    middle += tint(fit(c.number.empty() && widths[i] < 4 ? "" : c.holds, widths[i], true)) + "│" +
              (last ? "\n" : "");
    labelled |= !c.label.empty();
    label += tint(fit(c.label, widths[i], true)) + "│" + (last ? "\n" : "");
    bottom += tint(border(role_word(c.role, widths[i]), {widths[i]}, line)) + (last ? "┘\n" : "┴");
  }
  const bool heavy = top.find("━") != top.npos;
  return top + middle + (labelled ? label : "") + bottom + extended_line(cells, widths) +
         (heavy ? paint(toned(Tone::quiet, "  ━ in use"), style) + "\n" : "");
}

std::vector<MapCell> marked_before(const Assessment& a) {
  const Layout layout = drawn(a.before, a);
  std::vector<MapCell> cells = map_cells(layout, a.contents);
  for (MapCell& cell : cells) {
    for (const Partition& p : layout.partitions) {
      if (cell.number == part_name(p.number) && a.before.kind != TableKind::none &&
          a.after.find(p.id) == nullptr)
        cell.mark = "deleted";
    }
  }
  return cells;
}

std::vector<MapCell> marked_after(const Assessment& a) {
  const Layout layout = drawn(a.after, a);
  std::vector<MapCell> cells = map_cells(layout, contents_after(a));
  for (MapCell& cell : cells) {
    for (const Partition& p : layout.partitions) {
      if (cell.number != part_name(p.number) || a.after.kind == TableKind::none) continue;
      const Partition* was = a.before.find(p.id);
      if (was == nullptr)
        cell.mark = "new";
      else if (was->number != p.number)
        cell.mark = "was " + part_name(was->number);
    }
  }
  return cells;
}

}  // namespace nuvrat::report
