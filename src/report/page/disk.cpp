// The disk before and after, to scale, and what changed, line by line.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "report/map.h"
#include "report/page/html.h"
#include "report/page/sections.h"
#include "report/words.h"

namespace nuvrat::report {
namespace {

const char* class_for(const MapCell& cell) {
  if (cell.number.empty()) return "free";
  if (cell.holds.starts_with("fat")) return "fat";
  return cell.holds == "ntfs" ? "ntfs" : "raw";
}

// "FAT32" for "fat32"; kinds that Nuvrat doesn't read are words already.
std::string kind_words(const std::string& kind) {
  const VolumeKind known = kind_named(kind);
  return known == VolumeKind::unknown ? kind : title_of(known);
}

// Boxes whose widths are the sectors; the words in them are again in the table of partitions.
std::string html_map(const std::vector<MapCell>& cells, std::uint32_t sector_size,
                     const std::string& title) {
  std::string words;
  std::string boxes;
  bool within = false;
  for (const MapCell& c : cells) {
    const std::string size = format_bytes(c.sectors * sector_size);
    const std::string holds = c.number.empty() ? "free" : kind_words(c.holds);
    within |= c.in_extended;
    const std::string role = c.in_extended && !c.number.empty() ? "logical" : c.role;
    words += fmt::format("{}{}{} {} {} {}", words.empty() ? "" : "; ", c.number,
                         c.number.empty() ? "" : ":", role, holds, size);
    boxes += fmt::format(
        "<div class=\"box {}{}\" style=\"flex-grow:{}\"><b>{}</b><span>{}</span><span>{}</span>"
        "<small>{}</small></div>\n",
        class_for(c), c.in_extended ? " within" : "", std::max<std::uint64_t>(c.sectors, 1),
        esc(c.number + (c.mark.empty() ? "" : " " + c.mark)), esc(holds), esc(c.label), size);
  }
  return fmt::format(
      "<figure><figcaption>{}</figcaption>\n<div class=\"map\" role=\"img\" "
      "aria-label=\"{}: {}\">\n{}</div>{}</figure>\n",
      title, esc(title), esc(words), boxes,
      within
          ? "\n<p class=\"quiet\">Under the bar along the top: inside the extended partition.</p>"
          : "");
}

std::string arrows(const std::vector<std::string>& changes, const std::string& otherwise) {
  if (changes.empty()) return otherwise;
  std::string out;
  for (const std::string& c : changes) out += (out.empty() ? "" : "<br>") + c;
  return out;
}

struct Changes {
  HtmlTable table{"Line by line", {"", "before", "after", ""}, {}, {}};
  void add(const std::string& what, const std::string& before, const std::string& after,
           bool changed) {
    table.rows.push_back(
        {esc(what), before, after,
         changed ? "<b class=\"moved\">changed</b>" : "<span class=\"same\">the same</span>"});
  }
};

void add_files(Changes& out, const Manifest& before, const Manifest& after) {
  const auto files = [](const Manifest& m) {
    return plural(m.files(), "file", "files") + " in " +
           plural(m.directories(), "folder", "folders");
  };
  const auto bytes = [](const Manifest& m) { return format_count(m.bytes()) + " bytes"; };
  out.add("Files", files(before), files(after), files(before) != files(after));
  out.add("Bytes in them", bytes(before),
          before.seal() == after.seal() ? "as before" : bytes(after),
          before.seal() != after.seal());
  if (before.ranges.empty()) return;
  const auto ranges = [](const Manifest& m) {
    std::string text;
    for (const ManifestRange& range : m.ranges)
      text += (text.empty() ? "" : ", ") + part_name(range.number);
    return esc(text);
  };
  const bool same = std::equal(
      before.ranges.begin(), before.ranges.end(), after.ranges.begin(), after.ranges.end(),
      [](const auto& a, const auto& b) { return a.digest.bytes == b.digest.bytes; });
  out.add("Partitions of other kinds", ranges(before), same ? "as before" : ranges(after), !same);
}

// One row for a property of partitions: those where it differs, or that none does.
template <typename Text>
void add_property(Changes& out, const Assessment& a, const std::string& what, Text text) {
  std::vector<std::string> before;
  std::vector<std::string> after;
  for (const Partition& p : a.before.data_partitions()) {
    const Partition* q = a.after.find(p.id);
    const std::string was = text(p, a.before);
    const std::string is = q == nullptr ? "not there" : text(*q, a.after);
    if (was == is) continue;
    before.push_back(esc(part_name(p.number) + ": " + was));
    after.push_back(esc((q == nullptr ? "" : part_name(q->number) + ": ") + is));
  }
  for (const Partition& p : a.after.data_partitions()) {
    if (a.before.find(p.id) != nullptr) continue;
    before.push_back("not there");
    after.push_back(esc(part_name(p.number) + ": " + text(p, a.after)));
  }
  out.add(what, arrows(before, "every partition"), arrows(after, "as before"), !before.empty());
}

std::string state_sentence(const Assessment& a) {
  return "<p>" + sentence(reached_state(a).with()) + ".</p>\n";
}

}  // namespace

std::string disk_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  std::string body =
      html_map(marked_before(a), a.before.sector_size, "Before: " + table_words(a.before.kind));
  if (!a.in_reach()) return section("disk", "The disk", body);
  body += html_map(marked_after(a), a.after.sector_size,
                   (r.finished() ? "After: " : "As it will be: ") + table_words(a.after.kind));
  return section("disk",
                 r.finished() ? "The disk before and after" : "The disk, and what it was to become",
                 state_sentence(a) + body +
                     "<p class=\"quiet\">Drawn to scale; very small parts are drawn wider.</p>\n");
}

std::string changes_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  if (!a.in_reach()) return "";
  Changes out;
  const auto table = [](const Layout& l) {
    return esc(table_words(l.kind) + (l.id_text().empty() ? "" : ", id " + l.id_text()));
  };
  out.add("Partition table", table(a.before), table(a.after), table(a.before) != table(a.after));
  if (!a.before.partitions.empty()) {
    add_property(out, a, "Where partitions are", [](const Partition& p, const Layout&) {
      return fmt::format("{} + {}", p.start, p.sectors);
    });
    add_property(out, a, "Numbers",
                 [](const Partition& p, const Layout&) { return part_name(p.number); });
    add_property(out, a, "Roles", [](const Partition& p, const Layout&) {
      return std::string(p.role == Role::gpt ? "GPT entry" : name_of(p.role));
    });
    add_property(out, a, "Types", [](const Partition& p, const Layout&) {
      return type_text(p.type) + " (" + describe(p.type) + ")";
    });
    add_property(out, a, "Active", [](const Partition& p, const Layout&) {
      return std::string(p.active ? "yes" : "no");
    });
    add_property(out, a, "Names in the table", [](const Partition& p, const Layout&) {
      return p.name.empty() ? std::string("none") : "'" + p.name + "'";
    });
  }
  std::vector<std::string> from;
  std::vector<std::string> to;
  for (const Contents& c : a.contents) {
    if (c.kind == c.kind_after) continue;
    const bool added = c.fate == Contents::Fate::added;
    const Partition* p = (added ? a.after : a.before).find(c.partition);
    const std::string name = p == nullptr ? "" : part_name(p->number) + ": ";
    from.push_back(esc((added ? "" : name) + kind_words(c.kind)));
    const bool gone = c.fate == Contents::Fate::gone;
    to.push_back(esc(name + (gone ? "gone" : kind_words(c.kind_after))));
  }
  out.add("File systems", arrows(from, "every volume"), arrows(to, "as before"), !from.empty());
  if (r.before && r.after) add_files(out, *r.before, *r.after);
  std::string text = out.table.text();
  return section("changes", r.finished() ? "Changed and unchanged" : "To be changed", text);
}

}  // namespace nuvrat::report
