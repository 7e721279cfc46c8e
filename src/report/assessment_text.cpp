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

std::string obstacle_lines(const Assessment& a, const TextStyle& style, bool details) {
  std::string out = fmt::format("\n  What is in the way:\n");
  for (const Obstacle& o : a.obstacles) {
    out += wrap(toned(Tone::bad, name_of(o)) + ": " + printable(o.text), style, "  - ", "    ");
    if (!o.remedy.empty()) out += wrap("what would remove it: " + o.remedy, style, "    ", "    ");
    if (details && !o.otherwise.empty()) out += wrap("or: " + o.otherwise, style, "    ", "    ");
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
  std::string out;
  const std::string disk = printable(a.device.path) + ": ";
  if (!a.in_reach()) {
    const std::string goals = goal_words(a);
    out = wrap(disk + goals +
                   toned(Tone::bad, goals.empty() ? "can't be mended" : " is out of reach") + ": " +
                   plural(a.obstacles.size(), "obstacle", "obstacles"),
               style, "", "");
  } else {
    const StateWords state = reached_state(a);
    out = wrap(disk + toned(Tone::good, a.goals.empty() ? "can be mended" : "in reach") + ": " +
                   state.reached + (state.reached.empty() || state.deleted.empty() ? "" : "; ") +
                   toned(Tone::bad, state.deleted),
               style, "", "");
  }
  out += wrap(fmt::format("disk     {}, {}, tag {}", device_words(a.device),
                          format_bytes(a.before.disk_sectors * a.before.sector_size), a.tag),
              style, "  ", "           ");
  if (a.device.read_only)
    out += wrap("the device is read-only: a rewrite of it is refused until it can be written",
                style, "  ", "  ");
  if (!a.device.in_use.empty())
    out += wrap("in use   " + printable(a.device.in_use), style, "  ", "           ");
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
  for (const Step& step : a.steps) {
    if (const VolumeChange* v = step.volume()) out += volume_words(*v, style);
  }
  return out;
}

// A wrong zone is a mistake that nobody notices for months.
std::string zone_line(const Assessment& a, const TextStyle& style) {
  for (const Step& step : a.steps) {
    const VolumeChange* v = step.volume();
    if (v == nullptr || v->from == v->to || v->from == VolumeKind::unknown) continue;
    return wrap(fmt::format("times    FAT's local times are taken as {}; another zone: --timezone",
                            v->zone),
                style, "  ", "           ");
  }
  return "";
}

std::size_t lines_of(const std::string& text) {
  return static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
}

std::string map_before(const Assessment& a, const TextStyle& style) {
  return wrap(fmt::format("{}  {}", a.in_reach() && looks_the_same(a) ? "as now " : "before ",
                          words_of(a.before)),
              style, "  ", "           ") +
         draw_map(marked_before(a), style);
}

std::string map_after(const Assessment& a, const TextStyle& style) {
  return wrap("after    " + words_of(a.after), style, "  ", "           ") +
         draw_map(marked_after(a), style);
}

// Both maps, or, where there is room for one, the one of afterwards.
std::string map_lines(const Assessment& a, const TextStyle& style, std::size_t room) {
  std::string before = map_before(a, style);
  if (looks_the_same(a)) return before;
  const std::string after = map_after(a, style);
  return lines_of(before) + lines_of(after) <= room ? before + after : after;
}

Tone tone_of(ConsentRank rank) {
  switch (rank) {
    case ConsentRank::deleted:
      return Tone::bad;
    case ConsentRank::lost:
      return Tone::caution;
    case ConsentRank::use:
    case ConsentRank::details:
      return Tone::plain;
  }
  return Tone::plain;
}

// Consents that say the same of several partitions, once.
struct ConsentGroup {
  const Consent* first;
  std::string subjects;
};

std::vector<ConsentGroup> grouped(const Assessment& a) {
  std::vector<ConsentGroup> out;
  for (const Consent& c : a.consents) {
    if (row_of(c.code).rank == ConsentRank::details) continue;
    const auto same = std::find_if(out.begin(), out.end(), [&c](const ConsentGroup& g) {
      return g.first->code == c.code && g.first->text == c.text;
    });
    if (same == out.end())
      out.push_back({&c, a.subject_of(c)});
    else
      same->subjects += ", " + a.subject_of(c);
  }
  return out;
}

std::string consent_lines(const Assessment& a, const TextStyle& style) {
  std::string out;
  std::string label;
  for (const ConsentGroup& g : grouped(a)) {
    const ConsentRank rank = row_of(g.first->code).rank;
    const std::string word = rank == ConsentRank::use ? "know" : name_of(rank);
    const std::string subject =
        g.subjects.empty() ? "" : g.subjects + (g.first->text.starts_with("'") ? " " : ": ");
    const std::string text = printable(subject + g.first->text);
    out += word == label
               ? wrap(text, style, "           ", "           ")
               : wrap(toned(tone_of(rank), word) + std::string(9 - word.size(), ' ') + text, style,
                      "  ", "           ");
    label = word;
  }
  const auto rest = std::count_if(a.consents.begin(), a.consents.end(), [](const Consent& c) {
    return row_of(c.code).rank == ConsentRank::details;
  });
  if (rest > 0 || !a.steps.empty())
    out += wrap(fmt::format("details  {}{}: --details",
                            rest > 0 ? plural(static_cast<std::uint64_t>(rest), "smaller change, ",
                                              "smaller changes, ")
                                     : "",
                            plural(a.steps.size(), "step", "steps")),
                style, "  ", "           ");
  return out;
}

std::string time_lines(const Assessment& a, const TextStyle& style, Proof proof) {
  const std::string unread =
      proof == Proof::places
          ? wrap("reads    places only: bytes that change meanwhile would not be noticed", style,
                 "  ", "           ")
          : "";
  return unread + wrap(fmt::format("time     {}; the way back keeps up to {} of sectors",
                                   both_times(a, proof),
                                   format_bytes(a.sectors_to_write * a.before.sector_size)),
                       style, "  ", "           ");
}

}  // namespace

std::string assessment_text(const Assessment& a, const TextStyle& style, Proof proof) {
  const std::string lead = lead_lines(a, style) + "\n";
  if (!a.in_reach()) return lead + map_before(a, style) + obstacle_lines(a, style, false);
  const std::string rest =
      "\n" + consent_lines(a, style) + zone_line(a, style) + time_lines(a, style, proof);
  constexpr std::size_t question = 2;  // an empty line, and the question
  const std::size_t used = lines_of(lead) + lines_of(rest) + question;
  return lead + map_lines(a, style, style.height - std::min<std::size_t>(used, style.height)) +
         rest;
}

std::string assessment_details(const Assessment& a, const TextStyle& style, Proof proof) {
  std::string out = lead_lines(a, style) + "\n";
  if (!a.in_reach()) return out + map_before(a, style) + obstacle_lines(a, style, true);
  out += looks_the_same(a) ? map_before(a, style) : map_before(a, style) + map_after(a, style);
  out += "\n";
  out += wrap("steps    " + step_words(a), style, "  ", "           ");
  if (!a.numbers().empty()) out += wrap("numbers  " + number_words(a), style, "  ", "           ");
  out += volume_lines(a, style) + zone_line(a, style);
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
      const ConsentRank rank = row_of(c.code).rank;
      out += wrap(toned(tone_of(rank), name_of(c.code)) + ": " + printable(a.text_of(c)), style,
                  "  - ", "    ");
    }
  }

  return out;
}

}  // namespace nuvrat
