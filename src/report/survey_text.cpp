// A disk as survey shows it, for a terminal.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/columns.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "report/lines.h"
#include "report/map.h"
#include "report/style.h"
#include "report/words.h"

namespace nuvrat {
using namespace report;
namespace {

std::vector<Contents> contents_of(const Survey& survey) {
  std::vector<Contents> out;
  for (const SurveyedPartition& s : survey.partitions) {
    const std::string kind = s.volume ? name_of(s.volume->kind) : s.signature.description;
    out.push_back({.partition = s.partition.id,
                   .kind = kind,
                   .label = s.volume ? s.volume->label : "",
                   .kind_after = kind});
  }
  return out;
}

std::string holds_of(const SurveyedPartition& s) {
  if (s.partition.role == Role::extended) return "";
  return s.volume ? name_of(s.volume->kind) : s.signature.description;
}

// "system C:", "boot files", "EFI system", "recovery": what a partition is for.
std::string use_of(const Survey& survey, const Partition& p) {
  if (p.number == 0) return "";
  std::string out;
  const auto say = [&out](const std::string& use) { out += (out.empty() ? "" : ", ") + use; };
  const bool efi = class_of(p.type) == TypeClass::efi_system;
  const Systems& s = survey.systems;
  if (efi) say("EFI system");
  if (std::any_of(s.systems.begin(), s.systems.end(),
                  [&p](const SystemVolume& v) { return v.partition == p.id; }))
    say("system");
  if (!efi && std::any_of(s.boot_files.begin(), s.boot_files.end(),
                          [&p](const BootFiles& b) { return b.partition == p.id && b.in_force; }))
    say("boot files");
  if (is_recovery(p.type)) say("recovery");
  std::string letters;
  for (const SystemVolume& v : s.systems) {
    for (const DriveLetter& l : v.letters) {
      if (l.partition == p.id)
        letters += fmt::format("{}{}:", letters.empty() ? "" : " ", l.letter);
    }
  }
  return letters.empty() ? out : out + (out.empty() ? "" : " ") + letters;
}

// Where there is no room for sectors.
std::string narrow_rows(const Survey& survey, const TextStyle& style) {
  std::string out;
  for (const SurveyedPartition& s : survey.partitions) {
    const Partition& p = s.partition;
    const std::string use = use_of(survey, p);
    out += fit(fmt::format("  {:<5}{:<9}{:>8}  {} {}", p.number == 0 ? "" : part_name(p.number),
                           p.number == 0 ? "volume" : name_of(p.role),
                           format_bytes(p.sectors * survey.sector_size), fit(holds_of(s), 7, true),
                           s.volume ? printable(s.volume->label) : ""),
               style.width, false) +
           "\n";
    if (!use.empty()) out += "       " + use + "\n";
  }
  return out;
}

std::string survey_rows(const Survey& survey, const TextStyle& style) {
  if (style.width < 78) return narrow_rows(survey, style);
  const bool wide = style.width >= 110;
  const bool used =
      std::any_of(survey.partitions.begin(), survey.partitions.end(),
                  [&](const auto& s) { return !use_of(survey, s.partition).empty(); });
  // The use of a partition says more than its length in sectors, where there is room for one.
  const bool sectors = wide || !used;
  const std::size_t label_width = wide ? 24 : 12;
  std::string out =
      fmt::format("  {:<5}{:<9}{:>11}{} {:>8}  {:<7}{}{:>9}{}\n", "part", "role", "start",
                  sectors ? fmt::format("{:>12}", "sectors") : "", "size", "holds",
                  fit("label", label_width, true), "free", used ? "  use" : "");
  for (const SurveyedPartition& s : survey.partitions) {
    const Partition& p = s.partition;
    const std::string number = p.number == 0 ? "" : part_name(p.number);
    std::string row =
        fmt::format("  {:<5}{:<9}{:>11}{} {:>8}  {}{}{:>9}  {}", number,
                    p.number == 0 ? "volume" : name_of(p.role), p.start,
                    sectors ? fmt::format("{:>12}", p.sectors) : "",
                    format_bytes(p.sectors * survey.sector_size), fit(holds_of(s), 7, true),
                    fit(s.volume ? printable(s.volume->label) : "", label_width, true),
                    s.volume ? format_bytes(s.volume->free_bytes) : "", use_of(survey, p));
    row.erase(row.find_last_not_of(' ') + 1);
    out += row + "\n";
  }
  return out;
}

// Systems, and what starts them.
std::string system_lines(const Systems& s, const TextStyle& style) {
  std::string out;
  for (const SystemVolume& v : s.systems)
    out += wrap(fmt::format("system: {}, for {}; it holds loaders for {}", part_name(v.number),
                            v.machine == Machine::unknown ? "a machine that its loader doesn't name"
                                                          : std::string(name_of(v.machine)),
                            v.legacy_loader && v.uefi_loader ? "legacy firmware and UEFI"
                            : v.uefi_loader                  ? "UEFI"
                                                             : "legacy firmware"),
                style, "  ", "          ");
  for (const BootFiles& b : s.boot_files) {
    std::string leads;
    if (b.system != 0)
      leads = fmt::format("; the boot store names '{}' on {}", printable(b.description),
                          part_name(b.system));
    if (!b.missing.empty())
      leads += fmt::format("; {}{}", b.system != 0 ? "but " : "", printable(b.missing));
    out +=
        wrap(fmt::format("boot files: {}, for {}{}{}", part_name(b.number), firmware_words(b.way),
                         b.in_force ? "" : ", but it isn't active", leads),
             style, "  ", "              ");
  }
  return out;
}

// How much of each volume is in use.
std::vector<MapCell> cells_of(const Survey& survey, const Layout& layout) {
  std::vector<MapCell> out = map_cells(layout, contents_of(survey));
  for (MapCell& cell : out) {
    for (const SurveyedPartition& s : survey.partitions) {
      if (!s.volume || cell.number != part_name(s.partition.number)) continue;
      const auto bytes = static_cast<double>(cell.sectors * survey.sector_size);
      cell.used = 1 - std::min(1.0, static_cast<double>(s.volume->free_bytes) / bytes);
    }
  }
  return out;
}

Lead survey_lead(const Survey& survey) {
  const Findings findings = survey.all_findings();
  const auto readable = std::count_if(survey.partitions.begin(), survey.partitions.end(),
                                      [](const auto& s) { return s.volume.has_value(); });
  const std::size_t parts = survey.table.layout.data_partitions().size();
  const std::string head =
      survey.bare_volume
          ? fmt::format("one {} volume without a table", survey.partitions[0].signature.description)
      : survey.table.layout.kind == TableKind::none
          ? "no partition table"
          : fmt::format("{} with {}{}", table_words(survey.table.layout.kind),
                        parts == 0 ? "no partitions" : plural(parts, "partition", "partitions"),
                        parts == 0 ? "" : fmt::format(", {} readable", readable));
  const std::vector<std::string> unseen = survey.not_looked_at();
  // Only the table and boot sectors were looked at: folders and chains are for a check.
  const char* const sound = readable == 0        ? "; its table is sound"
                            : survey.bare_volume ? "; its boot sector is sound"
                            : unseen.empty()     ? "; table and boot sectors sound"
                                                 : "; table and the boot sectors read are sound";
  const std::string rest =
      findings.empty() ? readable == 0 && !unseen.empty()
                             ? survey.bare_volume ? "; its contents were not looked at"
                                                  : "; nothing on it was recognised"
                             : sound
                       : fmt::format("; {} to look at", plural(findings.size(), "thing", "things"));
  return {head, rest};
}

}  // namespace

std::string survey_line(const Survey& survey) {
  const auto [key, rest] = survey_lead(survey);
  return key + rest + ", tag " + survey.tag;
}

std::string survey_text(const Survey& survey, const TextStyle& style) {
  const Findings findings = survey.all_findings();
  const std::vector<std::string> unseen = survey.not_looked_at();
  const auto [head, rest] = survey_lead(survey);
  std::string out = verdict(survey.device.path, tone_of(findings), head, rest, style) + "\n";
  out += fmt::format("  disk   {}\n", device_words(survey.device));
  if (!survey.device.in_use.empty())
    out += wrap("in use " + printable(survey.device.in_use), style, "  ", "         ");
  out += fmt::format("  size   {}: {} of {} bytes{}\n",
                     format_bytes(survey.sectors * survey.sector_size),
                     plural(survey.sectors, "sector", "sectors"), survey.sector_size,
                     survey.device.physical_sector_size > survey.sector_size
                         ? fmt::format(", written {} at a time",
                                       survey.device.physical_sector_size / survey.sector_size)
                         : "");
  if (!survey.table.layout.id_text().empty())
    out += fmt::format("  id     {}\n", survey.table.layout.id_text());
  out += fmt::format("  tag    {}\n", survey.tag);
  out += unseen_lines(unseen, style) + "\n";
  if (survey.partitions.empty() && survey.table.layout.kind == TableKind::none)
    return out + finding_lines(findings, style);
  Layout drawn = survey.table.layout;
  if (survey.bare_volume) drawn.partitions = {survey.partitions[0].partition};
  const std::string map = draw_map(cells_of(survey, drawn), style);
  out += map + (map.empty() ? "" : "\n") + survey_rows(survey, style);
  std::string active;
  for (const SurveyedPartition& s : survey.partitions) {
    // On a GPT it is an attribute that next to nothing looks at.
    if (s.partition.active && drawn.kind == TableKind::mbr)
      active += (active.empty() ? "" : ", ") + part_name(s.partition.number);
  }
  if (!active.empty()) out += fmt::format("  active: {}\n", active);
  out += system_lines(survey.systems, style);
  std::string gaps;
  const std::vector<SectorRange> all = gaps_of(survey.table);
  for (std::size_t i = 0; i < all.size(); ++i)
    gaps += fmt::format("{}g{} {} from {}", i == 0 ? "" : ", ", i + 1,
                        format_bytes(all[i].count * survey.sector_size), all[i].first);
  if (!gaps.empty()) out += wrap("gaps: " + gaps, style, "  ", "        ");
  if (!findings.empty()) out += "\n" + finding_lines(findings, style);
  if (std::any_of(survey.partitions.begin(), survey.partitions.end(),
                  [](const SurveyedPartition& s) { return s.volume.has_value(); }))
    out += "\n" + wrap(fmt::format("Folders and files were not checked: 'nuvrat check {}' does",
                                   as_argument(survey.device.path)),
                       style, "  ", "  ");
  return out;
}

}  // namespace nuvrat
