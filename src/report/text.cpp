#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "report/map.h"
#include "report/wrap.h"

namespace nuvrat {
namespace {

constexpr int good = 92;
constexpr int bad = 91;
constexpr int warn = 93;

std::string coloured_verdict(const std::string& text, int colour, const TextStyle& style) {
  return wrap(text, style.width, "", "",
              [&](const std::string& s) { return paint(s, colour, style); });
}

std::string verdict(const std::string& text, bool fine, const TextStyle& style) {
  return coloured_verdict(text, fine ? good : bad, style);
}

int colour_of(const Findings& findings) {
  const bool any = std::any_of(findings.begin(), findings.end(),
                               [](const Finding& f) { return f.severity == Severity::warning; });
  return has_errors(findings) ? bad : any ? warn : good;
}

std::string table_words(TableKind kind) {
  return kind == TableKind::gpt ? "GPT" : kind == TableKind::mbr ? "MBR" : "no table";
}

std::vector<Contents> contents_of(const Survey& survey) {
  std::vector<Contents> out;
  for (const SurveyedPartition& s : survey.partitions) {
    const std::string kind = s.volume ? name_of(s.volume->kind) : s.signature.description;
    out.push_back({s.partition.start, kind, s.volume ? s.volume->label : "", kind});
  }
  return out;
}

std::string finding_lines(const Findings& findings, const TextStyle& style) {
  std::string out;
  for (const Finding& f : findings) {
    const int colour = f.severity == Severity::error     ? bad
                       : f.severity == Severity::warning ? warn
                                                         : 0;
    const std::string where = f.place.text();
    out += wrap(fmt::format("{} {}: {}{}", name_of(f.severity), f.code, printable(f.text),
                            where.empty() ? "" : " (" + printable(where) + ")"),
                style.width, "  ", "    ",
                [&](const std::string& s) { return paint(s, colour, style); });
  }
  return out;
}

std::string survey_rows(const Survey& survey, const TextStyle& style) {
  const std::size_t label_width = style.width >= 110 ? 30 : 12;
  std::string out =
      fmt::format("  {:<5}{:<9}{:>11}{:>12} {:>8}  {:<7}{}{:>9}\n", "part", "role", "start",
                  "sectors", "size", "holds", fit("label", label_width, true), "free");
  for (const SurveyedPartition& s : survey.partitions) {
    const Partition& p = s.partition;
    const std::string number = part_name(p.number) + (p.active ? "*" : "");
    const std::string holds = p.role == Role::extended ? ""
                              : s.volume               ? name_of(s.volume->kind)
                                                       : s.signature.description;
    out += fmt::format("  {:<5}{:<9}{:>11}{:>12} {:>8}  {}{}{:>9}\n", number,
                       p.number == 0 ? "volume" : name_of(p.role), p.start, p.sectors,
                       format_bytes(p.sectors * survey.sector_size), fit(holds, 7, true),
                       fit(s.volume ? printable(s.volume->label) : "", label_width, true),
                       s.volume ? format_bytes(s.volume->free_bytes) : "");
  }
  return out;
}

std::string device_words(const DeviceIdentity& device) {
  std::string out = device.kind;
  if (!device.model.empty()) out += ", " + printable(device.model);
  if (!device.serial.empty()) out += ", serial " + printable(device.serial);
  return out;
}

}  // namespace

std::string survey_text(const Survey& survey, const TextStyle& style) {
  const Findings findings = survey.all_findings();
  const auto readable = std::count_if(survey.partitions.begin(), survey.partitions.end(),
                                      [](const auto& s) { return s.volume.has_value(); });
  const std::size_t parts = survey.table.layout.data_partitions().size();
  std::string head = survey.bare_volume
                         ? fmt::format("{}: one {} volume without a table", survey.device.path,
                                       survey.partitions[0].signature.description)
                         : fmt::format("{}: {} with {}, {} readable", survey.device.path,
                                       table_words(survey.table.layout.kind),
                                       plural(parts, "partition", "partitions"), readable);
  head += findings.empty()
              ? "; nothing unusual"
              : fmt::format("; {} to look at", plural(findings.size(), "thing", "things"));
  std::string out = coloured_verdict(head, colour_of(findings), style) + "\n";
  out += fmt::format("  disk   {}\n", device_words(survey.device));
  out += fmt::format("  size   {}: {} sectors of {} bytes\n",
                     format_bytes(survey.sectors * survey.sector_size),
                     format_count(survey.sectors), survey.sector_size);
  if (!survey.table.layout.id_text().empty())
    out += fmt::format("  id     {}\n", survey.table.layout.id_text());
  out += fmt::format("  tag    {}\n\n", survey.tag);
  if (survey.partitions.empty()) return out + finding_lines(findings, style);
  Layout drawn = survey.table.layout;
  if (survey.bare_volume) drawn.partitions = {survey.partitions[0].partition};
  out += draw_map(map_cells(drawn, contents_of(survey)), style) + "\n" + survey_rows(survey, style);
  const bool any_active = std::any_of(survey.partitions.begin(), survey.partitions.end(),
                                      [](const auto& s) { return s.partition.active; });
  if (any_active) out += "  * active\n";
  if (!findings.empty()) out += "\n" + finding_lines(findings, style);
  return out;
}

std::string check_text(const Survey& survey, const TextStyle& style) {
  const Findings findings = survey.all_findings();
  const auto count = [&findings](Severity severity) {
    return static_cast<std::uint64_t>(
        std::count_if(findings.begin(), findings.end(),
                      [severity](const Finding& f) { return f.severity == severity; }));
  };
  const auto mendable = static_cast<std::uint64_t>(std::count_if(
      findings.begin(), findings.end(), [](const Finding& f) { return f.repairable; }));
  std::string head = findings.empty() ? "sound" : plural(count(Severity::error), "error", "errors");
  if (!findings.empty()) {
    head += ", " + plural(count(Severity::warning), "warning", "warnings") + ", " +
            plural(count(Severity::note), "note", "notes");
  }
  head = survey.device.path + ": " + head;
  std::string out = coloured_verdict(head, colour_of(findings), style);
  const auto volumes = std::count_if(survey.partitions.begin(), survey.partitions.end(),
                                     [](const auto& s) { return s.volume.has_value(); });
  out += fmt::format("\n  table    {}\n  volumes  {} read, every folder and chain\n",
                     table_words(survey.table.layout.kind), volumes);
  if (!findings.empty()) out += "\n" + finding_lines(findings, style);
  if (mendable > 0)
    out += fmt::format("\n  {} can be mended with nothing lost: nuvrat check --repair\n",
                       plural(mendable, "finding", "findings"));
  return out;
}

namespace {

std::string obstacle_lines(const Assessment& a, const TextStyle& style) {
  std::string out = fmt::format("\n  What stands in the way:\n");
  for (const Obstacle& o : a.obstacles) {
    out += wrap(fmt::format("{}: {}", o.code, printable(o.text)), style.width, "  - ", "    ",
                [&](const std::string& s) { return paint(s, bad, style); });
    if (!o.remedy.empty())
      out += wrap("what would lift it: " + o.remedy, style.width, "    ", "    ");
  }
  return out;
}

// A volume without a table is drawn as the only partition.
Layout drawn(Layout layout, const Assessment& a) {
  if (layout.partitions.empty() && a.contents.size() == 1) {
    Partition whole;
    whole.sectors = layout.disk_sectors;
    layout.partitions = {whole};
  }
  return layout;
}

std::string number_words(const Assessment& a) {
  std::string changed;
  for (const Renumbering& r : a.numbers) {
    if (r.before != r.after)
      changed += fmt::format("{}p{} → p{}", changed.empty() ? "" : ", ", r.before, r.after);
  }
  return changed.empty() ? "every partition keeps its number" : changed;
}

// How a volume comes out, and the room that it takes.
std::string volume_words(const VolumeChange& v, const TextStyle& style) {
  if (v.place.count == 0) return "";
  std::string text =
      fmt::format("volume   {}{} in clusters of {}; its structures take {} of {} free",
                  title_of(v.to), v.number == 0 ? "" : fmt::format(" on p{}", v.number),
                  format_bytes(v.cluster_bytes), format_bytes(v.needed_clusters * v.cluster_bytes),
                  format_bytes(v.free_clusters * v.cluster_bytes));
  text += fmt::format("; {}", v.moved_clusters == 0
                                  ? "every file stays where it is"
                                  : plural(v.moved_clusters, "cluster moves", "clusters move"));
  return wrap(text, style.width, "  ", "           ");
}

std::string write_words(const Assessment& a) {
  std::uint64_t boots = 0;
  bool volumes = false;
  for (const Step& step : a.steps) {
    boots += step.kind == "boot-sector" ? 1 : 0;
    volumes |= step.volume.place.count > 0;
  }
  const bool mends = std::any_of(a.steps.begin(), a.steps.end(),
                                 [](const Step& step) { return step.kind == "fat-mend"; });
  const std::string where =
      mends        ? "of the volumes' own structures, no file's contents"
      : volumes    ? "in rewritten volumes only free ones, before the switch"
      : boots == 0 ? "no sector of any partition"
                   : "of partitions only " + plural(boots, "boot sector", "boot sectors");
  return fmt::format("{} ({}); {}", plural(a.sectors_to_write, "sector", "sectors"),
                     format_bytes(a.sectors_to_write * a.before.sector_size), where);
}

}  // namespace

std::string assessment_text(const Assessment& a, const TextStyle& style) {
  std::string goals;
  for (const Goal& goal : a.goals) goals += (goals.empty() ? "" : " ") + goal.text();
  std::string out =
      verdict(a.in_reach() && goals.empty()
                  ? fmt::format("{}: can be mended with nothing lost", a.device.path)
              : a.in_reach() ? fmt::format("{}: {} is in reach", a.device.path, goals)
                             : fmt::format("{}: {} is out of reach: {}", a.device.path, goals,
                                           plural(a.obstacles.size(), "obstacle", "obstacles")),
              a.in_reach(), style);
  const auto words = [](const Layout& l) {
    return table_words(l.kind) + (l.id_text().empty() ? "" : ", id " + l.id_text());
  };
  out += fmt::format("\n  before  {}, tag {}\n", words(a.before), a.tag);
  out += draw_map(map_cells(drawn(a.before, a), a.contents), style);
  if (!a.in_reach()) return out + obstacle_lines(a, style);
  std::vector<Contents> contents = a.contents;
  for (Contents& c : contents) c.kind = c.kind_after;
  const bool looks_the_same =
      a.before == a.after && std::all_of(a.contents.begin(), a.contents.end(),
                                         [](const Contents& c) { return c.kind == c.kind_after; });
  if (looks_the_same) {
    out += "  after   the same\n";
  } else {
    out += fmt::format("  after   {}\n", words(a.after));
    out += draw_map(map_cells(drawn(a.after, a), contents), style);
  }
  out += "\n";
  std::string steps;
  for (const Step& step : a.steps) steps += (steps.empty() ? "" : ", then ") + step.name();
  out += wrap("steps    " + steps, style.width, "  ", "           ");
  if (!a.numbers.empty())
    out += wrap("numbers  " + number_words(a), style.width, "  ", "           ");
  for (const Step& step : a.steps) out += volume_words(step.volume, style);
  out += wrap("writes   " + write_words(a), style.width, "  ", "           ");
  out += wrap(
      fmt::format("reads    {} of contents, twice: before and after", format_bytes(a.files_bytes)),
      style.width, "  ", "           ");
  const auto rounded = [](double n) { return static_cast<std::uint64_t>(n + 0.5); };
  const std::string time =
      a.expected_seconds < 1 ? "under a second"
      : a.expected_seconds < 90
          ? "about " + plural(rounded(a.expected_seconds), "second", "seconds")
          : "about " + plural(rounded(a.expected_seconds / 60), "minute", "minutes");
  out += wrap("time     " + time, style.width, "  ", "           ");
  if (!a.consents.empty()) {
    out += "\n  To agree to:\n";
    for (const Consent& c : a.consents) {
      out += wrap(fmt::format("{}: {}", c.code, printable(c.text)), style.width, "  - ", "    ");
    }
  }
  return out;
}

std::string manifest_text(const Manifest& m, const TextStyle& style) {
  std::string out =
      verdict(fmt::format("{}: recorded {}, {}", m.device, plural(m.files(), "file", "files"),
                          format_bytes(m.bytes())),
              m.unreadable_files() == 0, style);
  out +=
      fmt::format("\n  seal   {}\n  zone   {} for the times of FAT volumes\n\n", m.seal(), m.zone);
  for (const ManifestVolume& v : m.volumes) {
    out += fmt::format(
        "  {:<5}{:<6} {}  {}, {}, {}\n", part_name(v.number), name_of(v.info.kind),
        fit(printable(v.info.label), 12, true), plural(v.tree.file_count(), "file", "files"),
        plural(v.tree.directory_count(), "folder", "folders"), format_bytes(v.tree.total_bytes()));
    for (const auto& [id, parts] : v.unreadable) {
      for (const ByteRange& part : parts) {
        out += wrap(fmt::format("unreadable: {}, {} at offset {}", printable(v.tree.path(id)),
                                plural(part.length, "byte", "bytes"), part.offset),
                    style.width, "       ", "         ",
                    [&](const std::string& s) { return paint(s, bad, style); });
      }
    }
  }
  for (const ManifestRange& r : m.ranges) {
    out += fmt::format("  {:<5}{}: {} recorded by one hash of the whole range\n",
                       part_name(r.number), r.description, plural(r.sectors, "sector", "sectors"));
  }
  return out;
}

namespace {

std::string difference_lines(const Comparison& c, const TextStyle& style) {
  std::string out;
  constexpr std::size_t most_shown = 20;
  for (std::size_t i = 0; i < std::min(c.differences.size(), most_shown); ++i) {
    const Difference& d = c.differences[i];
    const std::string where =
        fmt::format("{}{}{}", part_name(d.number), d.path.empty() ? "" : "/", printable(d.path));
    out += wrap(fmt::format("{}: {}: {}", name_of(d.kind), where, d.text), style.width, "  ",
                "    ", [&](const std::string& s) { return paint(s, bad, style); });
  }
  if (c.count > most_shown)
    out += fmt::format("  … and {} more\n", format_count(c.count - most_shown));
  return out;
}

}  // namespace

std::string comparison_text(const Comparison& c, const Manifest& after, const TextStyle& style) {
  std::string out =
      verdict(c.equal() ? fmt::format("{}: nothing was lost: {} as recorded", after.device,
                                      plural(after.files(), "file", "files"))
                        : fmt::format("{}: {} from what was recorded", after.device,
                                      plural(c.count, "difference", "differences")),
              c.equal(), style);
  out += fmt::format("\n  seal recorded  {}\n  seal now       {}{}\n", c.seal_before, c.seal_after,
                     c.seal_before == c.seal_after ? "  equal" : "  not equal");
  if (!c.equal()) out += "\n" + difference_lines(c, style);
  return out;
}

namespace {

// A folder that a mend makes is no difference, and yet changes the seal.
std::string seal_words(const Comparison& c) {
  if (c.seal_before == c.seal_after) return "equal";
  return c.equal() ? "with what was added; nothing else differs" : "not equal";
}

}  // namespace

std::string job_text(const Assessment& a, const JobResult& r, const TextStyle& style) {
  std::string steps;
  for (const Step& step : a.steps) steps += (steps.empty() ? "" : ", ") + step.name();
  std::string out =
      verdict(r.sound() ? fmt::format("{}: done: {}; nothing was lost", a.device.path, steps)
                        : fmt::format("{}: done: {}; but {}", a.device.path, steps,
                                      plural(r.comparison.count, "difference", "differences")),
              r.sound(), style);
  SectorSet sectors;
  for (const WrittenRange& w : r.written) sectors.add(w.range);
  out += fmt::format("\n  files    {}, {}, every hash compared\n", plural(r.files, "file", "files"),
                     format_bytes(r.bytes));
  if (r.ranges > 0)
    out += fmt::format("  ranges   {} compared by the hash of the whole\n",
                       plural(r.ranges, "partition", "partitions"));
  out += fmt::format("  seal     {}\n           {}  {}\n", r.comparison.seal_before,
                     r.comparison.seal_after, seal_words(r.comparison));
  out += fmt::format("  written  {}\n", plural(sectors.count(), "sector", "sectors"));
  out += wrap("tag      " + r.tag_after + (r.tag_after == a.tag ? "" : " (was " + a.tag + ")"),
              style.width, "  ", "           ");
  if (r.unreadable > 0) {
    out += fmt::format("  damage   {} as unreadable in part as before\n",
                       plural(r.unreadable, "file", "files"));
  }
  if (!r.table_reread)
    out += "  note     the system still shows the old table: attach the disk again\n";
  out += finding_lines(r.findings_after, style);
  if (!r.comparison.equal()) out += "\n" + difference_lines(r.comparison, style);
  return out;
}

namespace {

std::string stage_words(CaseStage stage) {
  switch (stage) {
    case CaseStage::nothing_written:
      return "nothing was written yet; the disk is the old one";
    case CaseStage::before_switch:
      return "cut off before the switch; the disk is the old one";
    case CaseStage::after_switch:
      return "cut off after the switch; the disk is the new one";
    case CaseStage::finished:
      return "finished; the disk is the new one";
    case CaseStage::reverting:
      return "a revert was cut off; running it again ends it";
    case CaseStage::reverted:
      return "put back; the disk is the old one";
  }
  return "";
}

}  // namespace

std::string case_text(const CaseFile& job, CaseStage stage, const std::string& tag,
                      const TextStyle& style) {
  const Assessment& a = job.assessment;
  std::string steps;
  for (const Step& step : a.steps) steps += (steps.empty() ? "" : ", then ") + step.name();
  std::string out = verdict(fmt::format("{}: {}", job.folder.string(), stage_words(stage)),
                            stage == CaseStage::finished || stage == CaseStage::reverted, style);
  out += "\n" + wrap("disk     " + job.disk.string(), style.width, "  ", "           ");
  out += wrap("job      " + steps, style.width, "  ", "           ");
  out += fmt::format("  steps    {} of {} done\n  tag      {} now, {} before the job\n",
                     job.steps_done, a.steps.size(), tag, a.tag);
  return out;
}

std::string revert_text(const CaseFile& job, const RevertResult& result, const TextStyle& style) {
  std::string out = verdict(
      fmt::format("{}: put back, {}", job.disk.string(),
                  result.exact ? "every sector as it was"
                               : "every live sector as it was; free sectors keep what was written"),
      true, style);
  out += fmt::format("\n  sectors  {} written\n  tag      {}\n", format_count(result.sectors),
                     result.tag_after);
  return out;
}

std::string error_text(const Error& e, const TextStyle& style) {
  std::string out = verdict(printable(e.message()), false, style);
  if (const std::string where = e.place().text(); !where.empty())
    out += wrap("where: " + printable(where), style.width, "  ", "    ");
  if (!e.remedy().empty()) out += wrap("what to do: " + e.remedy(), style.width, "  ", "    ");
  return out;
}

}  // namespace nuvrat
