// A job that is done, cut off, put back or refused, for a terminal.

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

// A folder that a mend makes is not a difference, and yet changes the seal.
std::string seal_words(const Comparison& c) {
  if (c.seal_before == c.seal_after) return "equal";
  if (!c.equal()) return "not equal";
  return c.planned_count == 0 && c.partial() ? "another: not the same parts could be read"
                                             : "another, as planned; nothing else differs";
}

// Files that were not looked at are not said to be there.
std::string way_back_words(const RevertResult& r) {
  if (!r.compared)
    return fmt::format(
        "not compared ({}): 'nuvrat verify' does, against the case's before.manifest",
        printable(r.not_compared));
  const Comparison& c = *r.compared;
  return fmt::format("{}{} as recorded before the job{}{}", format_count(c.same),
                     c.same == c.recorded ? "" : " of " + format_count(c.recorded),
                     c.partial() ? ", as far as could be read" : "",
                     c.by_place == 0 ? "" : ", by their places: contents were not read");
}

// Whether the files that were to stay did. A disk without any has lost nothing, and nothing was
// compared either.
std::string verified_words(const JobResult& r) {
  const Comparison& c = r.comparison;
  const std::uint64_t files = c.unchanged + c.opened;
  std::string out = files > 0       ? plural(files, "file", "files")
                    : c.changed > 0 ? plural(c.changed, "file", "files") + " as planned"
                    : r.ranges > 0  ? plural(r.ranges, "partition", "partitions")
                                    : "";
  if (out.empty())
    return c.partial()     ? "no file could be compared"
           : c.deleted > 0 ? "no other file was on the disk"
                           : "no file was on the disk";
  out += c.proof == Proof::places ? " in place" : " verified";
  out += c.partial() ? ", as far as they can be read" : "";
  return out + (c.proof == Proof::places ? "; contents were read only of what moved" : "");
}

std::string done_lines(const Assessment& a, const JobResult& r, const TextStyle& style) {
  std::string out = printable(a.device.path) + ": " +
                    toned(r.sound() ? Tone::good : Tone::bad, "done") + ": " +
                    reached_state(a).with(" as agreed") + "; ";
  out += !r.comparison.equal()
             ? toned(Tone::bad, plural(r.comparison.count, "difference", "differences")) + ": " +
                   difference_counts(r.comparison)
         : !r.sound() ? toned(Tone::bad, "the check found errors")
                      : toned(Tone::good, verified_words(r));
  return wrap(out, style, "", "");
}

std::string compared_lines(const JobResult& r, const TextStyle& style) {
  const bool by_places = r.comparison.proof == Proof::places;
  const std::uint64_t opened = r.comparison.opened;
  std::string out = "\n";
  const Comparison& c = r.comparison;
  if (c.unchanged + c.changed + c.added == 0 && opened == 0)
    out += wrap(
        "files    " + (c.deleted > 0 ? format_count(c.deleted) + " deleted as agreed, no others"
                                     : "none that Nuvrat reads"),
        style, "  ", "           ");
  else if (opened < r.files || opened == 0)
    out += wrap(
        fmt::format("files    {}, {}: {}", count_words(r.comparison),
                    format_bytes(r.bytes - r.comparison.opened_bytes),
                    by_places ? "each compared by name, size and times" : "every hash compared"),
        style, "  ", "           ");
  if (opened > 0)
    out +=
        wrap(fmt::format("opened   {}, {}: could not be read before; of their volume {}",
                         plural(opened, "file", "files"), format_bytes(r.comparison.opened_bytes),
                         by_places ? "no sector but the lost one was written"
                                   : "every sector but the lost one is as it was recorded"),
             style, "  ", "           ");
  if (by_places)
    return out + wrap(fmt::format("places   {} on the same sectors as before, none of them "
                                  "written; what moved, or has no sectors of its own, compared by "
                                  "its hash",
                                  plural(r.comparison.by_place, "file or partition is",
                                         "files and partitions are")),
                      style, "  ", "           ");
  if (r.ranges > 0)
    out += fmt::format("  ranges   {} compared by the hash of the whole\n",
                       plural(r.ranges, "partition", "partitions"));
  return out + fmt::format("  seal     {}\n", r.comparison.seal_before) +
         wrap(r.comparison.seal_after + "  " + seal_words(r.comparison), style,
              std::string(11, ' '), std::string(11, ' '));
}

std::string unread_lines(const JobResult& r, const TextStyle& style) {
  std::string out;
  const std::uint64_t ranges = r.comparison.unreadable_ranges;
  if (r.unreadable + ranges > 0)
    out += wrap(fmt::format("damage   {} could not be read in full, before or now: compared is "
                            "what could be",
                            ranges == 0 ? plural(r.unreadable, "file", "files")
                                        : plural(r.unreadable + ranges, "file or partition",
                                                 "files and partitions")),
                style, "  ", "           ");
  if (r.left_out > 0)
    out += fmt::format("  missing  {} could not be read, before or now, and not compared\n",
                       plural(r.left_out, "place", "places"));
  return out;
}

std::string planned_lines(const Comparison& c, const TextStyle& style) {
  constexpr std::size_t max_planned = 4;
  std::string out;
  std::uint64_t shown = 0, partitions = 0;
  for (const Difference& d : c.planned) {
    if (d.path.empty()) {  // the headline and the map say so
      ++partitions;
      continue;
    }
    if (shown == max_planned) break;
    ++shown;
    out += wrap(fmt::format("planned  {}: {}", printable(place_words(d)), d.text), style, "  ",
                "           ");
  }
  if (shown == max_planned && c.planned_count > shown + partitions)
    out += fmt::format("           and {} more, listed in the case\n",
                       format_count(c.planned_count - shown - partitions));
  return out;
}

std::string then_lines(const Assessment& a, const JobResult& r, const std::string& folder,
                       const TextStyle& style) {
  const std::string name = as_argument(folder);
  if (!r.sound())
    return wrap(fmt::format("then     Look at what differs before anybody uses the disk; 'nuvrat "
                            "revert {}' puts it back",
                            name),
                style, "  ", "           ");
  std::string out;
  std::size_t number = 0;
  for (const NextStep& step : next_steps(a)) {
    ++number;
    out += wrap(fmt::format("{}{}. {}", number == 1 ? "then     " : "", number, step.brief), style,
                number == 1 ? "  " : "           ", "              ");
  }
  return out + wrap(fmt::format("page     'nuvrat report {} -o FILE.html' tells how", name), style,
                    "  ", "           ");
}

}  // namespace

std::string job_text(const Assessment& a, const JobResult& r, const std::string& folder,
                     const TextStyle& style) {
  SectorSet sectors;
  for (const WrittenRange& w : r.written) sectors.add(w.range);
  std::string out = done_lines(a, r, style) + compared_lines(r, style);
  out += fmt::format("  written  {}\n", plural(sectors.count(), "sector", "sectors"));
  out += fmt::format("  took     {}\n", time_words(r.seconds));
  out += wrap("tag      " + r.tag_after + (r.tag_after == a.tag ? "" : " (was " + a.tag + ")"),
              style, "  ", "           ");
  out += unread_lines(r, style);
  if (r.left_behind > 0)
    out += fmt::format("  kept     {} that FAT can't hold, in the case: left-behind\n",
                       plural(r.left_behind, "thing", "things"));
  out += planned_lines(r.comparison, style);
  if (!r.from_medium)
    out += wrap(
        "note     this system can't read past its memory here: what was read back may have "
        "come from there",
        style, "  ", "           ");
  if (!r.table_reread)
    out += "  note     the system still shows the old table: attach the disk again\n";
  out += then_lines(a, r, folder, style);
  const Findings made = new_findings(a.findings, r.findings_after);
  if (made.size() < r.findings_after.size())
    out += wrap(fmt::format("check    {} as before the job: 'nuvrat check' names {}",
                            plural(r.findings_after.size() - made.size(), "finding", "findings"),
                            r.findings_after.size() - made.size() == 1 ? "it" : "them"),
                style, "  ", "           ");
  out += finding_lines(made, style);
  if (!r.comparison.equal()) out += "\n" + difference_lines(r.comparison, style);
  return out;
}

std::string rehearsal_text(const Assessment& a, const RehearsalResult& r, const std::string& folder,
                           const TextStyle& style) {
  const bool by_places = r.proof == Proof::places;
  const StateWords state = reached_state(a);
  std::string out = wrap(printable(a.device.path) + ": " + toned(Tone::good, "rehearsed") + ": " +
                             state.with(" as agreed") + "; " +
                             (state.deleted.empty() ? "every file" : "every other file") +
                             " would be there" + "; nothing was written",
                         style, "", "");
  out += fmt::format("\n  files    {}, {}, {}\n", plural(r.files, "file", "files"),
                     format_bytes(r.bytes),
                     by_places ? "by name, size, times and place" : "every one recorded and found");
  if (r.ranges > 0)
    out += fmt::format("  ranges   {} recorded as a whole\n",
                       plural(r.ranges, "partition", "partitions"));
  out += wrap(
      fmt::format("writes   {} ({}); the way back takes at most {} of the case",
                  plural(r.sectors, "sector", "sectors"),
                  format_bytes(r.sectors * a.before.sector_size), format_bytes(r.journal_bytes)),
      style, "  ", "           ");
  out += wrap("case     " + folder, style, "  ", "           ");
  out += wrap("next     the same with --case " + folder + " and without --rehearse", style, "  ",
              "           ");
  return out;
}

namespace {

std::string stage_words(CaseStage stage) {
  switch (stage) {
    case CaseStage::nothing_written:
      return "nothing was written yet: the disk is as it was";
    case CaseStage::before_switch:
      return "cut off before the switch: the disk reads as before";
    case CaseStage::after_switch:
      return "cut off after the switch: the change is in effect";
    case CaseStage::torn:
      return "cut off in the middle of a sector, which is torn; resuming or reverting mends it";
    case CaseStage::finished:
      return "finished: the change is in effect";
    case CaseStage::reverting:
      return "a revert was cut off; running it again ends it";
    case CaseStage::reverted:
      return "put back: the disk is as it was";
  }
  return "";
}

}  // namespace

std::string case_text(const CaseFile& job, CaseStage stage, const std::string& tag,
                      const TextStyle& style) {
  const Assessment& a = job.assessment;
  const bool fine = stage == CaseStage::finished || stage == CaseStage::reverted;
  std::string out =
      verdict(job.folder, fine ? Tone::good : Tone::bad, stage_words(stage), "", style);
  out += "\n" + wrap("disk     " + job.disk, style, "  ", "           ");
  out += wrap("job      " + reached_state(a).with(" as agreed"), style, "  ", "           ");
  if (!fine)
    out += fmt::format("  steps    {} of {} done, as the case notes\n", job.steps_done,
                       a.steps.size());
  out += fmt::format("  tag      {} now, {} before the job\n", printable(tag), printable(a.tag));
  return out;
}

std::string revert_text(const CaseFile& job, const RevertResult& result, const TextStyle& style) {
  if (result.already && result.sectors == 0) {
    return verdict(job.disk, Tone::good, "nothing to put back",
                   ": every sector of the job is as it was before; files were not compared",
                   style) +
           fmt::format("\n  tag      {}\n", result.tag_after);
  }
  std::string rest =
      result.exact ? ", every sector of the job as it was"
                   : ", every live sector of the job as it was; free sectors keep what was written";
  if (!result.equal())
    rest = ", every sector of the job as it was; other things are not: " +
           difference_counts(*result.compared);
  std::string out =
      verdict(job.disk, result.equal() ? Tone::good : Tone::bad, "put back", rest, style);
  out += fmt::format("\n  sectors  {} written\n  tag      {}\n", format_count(result.sectors),
                     result.tag_after);
  out += wrap("files    " + way_back_words(result), style, "  ", "           ");
  if (!result.equal()) out += "\n" + difference_lines(*result.compared, style);
  return out;
}

std::string error_text(const Error& e, const TextStyle& style) {
  std::string out = verdict("", Tone::bad, printable(e.message()), "", style);
  if (const std::string where = e.place().text(); !where.empty())
    out += wrap("where: " + printable(where), style, "  ", "    ");
  if (!e.remedy().empty()) out += wrap("what to do: " + e.remedy(), style, "  ", "    ");
  return out;
}

}  // namespace nuvrat
