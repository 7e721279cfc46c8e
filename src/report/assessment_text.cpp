// Whether goals are in reach, for a terminal.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/report.h>
#include <nuvrat/text.h>

#include "report/lines.h"
#include "report/map.h"
#include "report/style.h"
#include "report/words.h"

namespace nuvrat {
using namespace report;
namespace {

std::string obstacle_lines(const Assessment& a, const TextStyle& style) {
  std::string out = fmt::format("\n  What is in the way:\n");
  for (const Obstacle& o : a.obstacles) {
    out += wrap(toned(Tone::bad, name_of(o)) + ": " + printable(o.text), style, "  - ", "    ");
    if (!o.remedy.empty()) out += wrap("what would remove it: " + o.remedy, style, "    ", "    ");
  }
  return out;
}

// How a volume comes out, and the room that it takes.
std::string volume_words(const VolumeChange& v, const TextStyle& style) {
  if (!v.anew || v.from == v.to) return "";
  std::string text =
      fmt::format("volume   {}{} in clusters of {}; its structures take {} of {} free",
                  title_of(v.to), v.number == 0 ? "" : fmt::format(" on p{}", v.number),
                  format_bytes(v.cluster_bytes), format_bytes(v.needed_clusters * v.cluster_bytes),
                  format_bytes(v.free_clusters * v.cluster_bytes));
  if (v.from != VolumeKind::unknown)
    text += fmt::format("; {}", v.moved_clusters == 0
                                    ? "every file stays where it is"
                                    : plural(v.moved_clusters, "cluster moves", "clusters move"));
  return wrap(text, style, "  ", "           ");
}

std::string both_times(const Assessment& a, Proof proof) {
  std::string places = time_words(a.seconds_by_places);
  if (proof == Proof::places) return places;
  std::string contents = time_words(a.expected_seconds);
  return contents == places ? contents : contents + "; by places (--proof places) " + places;
}

std::string write_words(const Assessment& a) {
  std::vector<std::string> touched;
  for (const Step& step : a.steps) {
    const std::string all = step.touches();  // "free sectors; after the switch …"
    for (std::size_t at = 0; at < all.size();) {
      const std::size_t end = std::min(all.find("; ", at), all.size());
      const std::string what = all.substr(at, end - at);
      if (std::find(touched.begin(), touched.end(), what) == touched.end()) touched.push_back(what);
      at = end + 2;
    }
  }
  std::string where = touched.empty() ? "no sector of any partition" : "in volumes: ";
  for (std::size_t i = 0; i < touched.size(); ++i) where += (i == 0 ? "" : "; ") + touched[i];
  return fmt::format("{} ({}); {}", plural(a.sectors_to_write, "sector", "sectors"),
                     format_bytes(a.sectors_to_write * a.before.sector_size), where);
}

std::string lead_lines(const Assessment& a, const TextStyle& style) {
  const std::string goals = goal_words(a);
  const std::string subject = printable(a.device.path) + ": " + goals + (goals.empty() ? "" : " ");
  const std::string key = goals.empty()  ? a.in_reach() ? "can be mended" : "can't be mended"
                          : a.in_reach() ? "is in reach"
                                         : "is out of reach";
  const std::string rest = !a.in_reach()
                               ? ": " + plural(a.obstacles.size(), "obstacle", "obstacles")
                           : goals.empty() ? " with nothing lost"
                                           : "";
  std::string out =
      wrap(subject + toned(a.in_reach() ? Tone::good : Tone::bad, key) + rest, style, "", "");
  if (a.device.read_only)
    out += "\n  the device is read-only: a rewrite of it is refused until it can be written\n";
  if (!a.device.in_use.empty())
    out += "\n" + wrap("in use: " + printable(a.device.in_use), style, "  ", "    ");
  return out;
}

std::string words_of(const Layout& l) {
  return table_words(l.kind) + (l.id_text().empty() ? "" : ", id " + l.id_text());
}

bool looks_the_same(const Assessment& a) {
  return a.before == a.after &&
         std::all_of(a.contents.begin(), a.contents.end(),
                     [](const Contents& c) { return c.kind == c.kind_after; }) &&
         std::none_of(a.changes.begin(), a.changes.end(), [](const ExpectedChange& c) {
           return c.kind == ExpectedChange::Kind::relabelled;
         });
}

std::string volume_lines(const Assessment& a, const TextStyle& style) {
  std::string out;
  std::string zone;
  for (const Step& step : a.steps) {
    const VolumeChange* v = step.volume();
    if (v == nullptr) continue;
    out += volume_words(*v, style);
    if (zone.empty() && v->from != v->to && v->from != VolumeKind::unknown) zone = v->zone;
  }
  if (!zone.empty())
    out += wrap(
        fmt::format("times    FAT's local times are taken as {}; another zone: --timezone", zone),
        style, "  ", "           ");
  return out;
}

}  // namespace

std::string assessment_text(const Assessment& a, const TextStyle& style, Proof proof) {
  std::string out = lead_lines(a, style);
  out += fmt::format("\n  before  {}, tag {}\n", words_of(a.before), a.tag);
  out += draw_map(map_cells(drawn(a.before, a), a.contents), style);
  if (!a.in_reach()) return out + obstacle_lines(a, style);
  if (looks_the_same(a)) {
    out += "  after   the same\n";
  } else {
    out += fmt::format("  after   {}\n", words_of(a.after));
    out += draw_map(map_cells(drawn(a.after, a), contents_after(a)), style);
  }
  out += "\n";
  out += wrap("steps    " + step_words(a), style, "  ", "           ");
  if (!a.numbers().empty()) out += wrap("numbers  " + number_words(a), style, "  ", "           ");
  out += volume_lines(a, style);
  out += wrap("writes   " + write_words(a), style, "  ", "           ");
  out += wrap(proof == Proof::places
                  ? "reads    folders, and where each file is; contents only of what moves: bytes "
                    "that change in place meanwhile would not be noticed"
                  : fmt::format("reads    {} of contents, twice: before and after",
                                format_bytes(a.files_bytes)),
              style, "  ", "           ");
  out += wrap("time     " + both_times(a, proof), style, "  ", "           ");
  if (!a.consents.empty()) {
    out += "\n  To agree to:\n";
    for (const Consent& c : a.consents) {
      out += wrap(fmt::format("{}: {}", name_of(c.code), printable(c.text)), style, "  - ", "    ");
    }
  }
  if (a.boot) {
    out += "\n  To do then:\n";
    std::size_t number = 0;
    for (const NextStep& step : next_steps(a))
      out += wrap(step.title + ". " + step.text, style, fmt::format("  {}. ", ++number), "     ");
  }
  return out;
}

}  // namespace nuvrat
