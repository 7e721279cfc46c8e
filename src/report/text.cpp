#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "report/lines.h"
#include "report/map.h"
#include "report/words.h"
#include "report/wrap.h"

namespace nuvrat {
namespace {

std::vector<Contents> contents_of(const Survey& survey) {
  std::vector<Contents> out;
  for (const SurveyedPartition& s : survey.partitions) {
    const std::string kind = s.volume ? name_of(s.volume->kind) : s.signature.description;
    out.push_back({s.partition.start, kind, s.volume ? s.volume->label : "", kind});
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
    const std::string number = p.number == 0 ? "" : part_name(p.number) + (p.active ? "*" : "");
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

}  // namespace

namespace {

std::string unseen_lines(const std::vector<std::string>& unseen, const TextStyle& style) {
  std::string all;
  for (const std::string& one : unseen) all += (all.empty() ? "" : "; ") + printable(one);
  return all.empty() ? "" : wrap("not looked at: " + all, style.width, "  ", "    ");
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
                     : parts == 0 && survey.table.layout.kind == TableKind::none
                         ? survey.device.path + ": no table"
                         : fmt::format("{}: {} with {}, {} readable", survey.device.path,
                                       table_words(survey.table.layout.kind),
                                       plural(parts, "partition", "partitions"), readable);
  const std::vector<std::string> unseen = survey.not_looked_at();
  head += findings.empty()
              ? readable == 0 && !unseen.empty() ? "; nothing on it was recognised"
                                                 : "; nothing unusual"
              : fmt::format("; {} to look at", plural(findings.size(), "thing", "things"));
  std::string out = coloured_verdict(head, colour_of(findings), style) + "\n";
  out += fmt::format("  disk   {}\n", device_words(survey.device));
  if (!survey.device.in_use.empty())
    out += wrap("in use " + printable(survey.device.in_use), style.width, "  ", "         ");
  out += fmt::format("  size   {}: {} sectors of {} bytes{}\n",
                     format_bytes(survey.sectors * survey.sector_size),
                     format_count(survey.sectors), survey.sector_size,
                     survey.device.physical_sector_size > survey.sector_size
                         ? fmt::format(", written {} at a time",
                                       survey.device.physical_sector_size / survey.sector_size)
                         : "");
  if (!survey.table.layout.id_text().empty())
    out += fmt::format("  id     {}\n", survey.table.layout.id_text());
  out += fmt::format("  tag    {}\n", survey.tag);
  out += unseen_lines(unseen, style) + "\n";
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
  const std::vector<std::string> unseen = survey.not_looked_at();
  std::string head = !findings.empty() ? plural(count(Severity::error), "error", "errors")
                     : unseen.empty()  ? "sound"
                                       : "no finding, but not all of it was looked at";
  if (!findings.empty()) {
    head += ", " + plural(count(Severity::warning), "warning", "warnings") + ", " +
            plural(count(Severity::note), "note", "notes");
  }
  head = survey.device.path + ": " + head;
  std::string out = coloured_verdict(head, colour_of(findings), style);
  const auto volumes = std::count_if(survey.partitions.begin(), survey.partitions.end(),
                                     [](const auto& s) { return s.volume.has_value(); });
  out += fmt::format("\n  table    {}\n  volumes  {}\n", table_words(survey.table.layout.kind),
                     volumes == 0 ? std::string("none read")
                                  : fmt::format("{} read, every folder and chain", volumes));
  out += unseen_lines(unseen, style);
  if (!findings.empty()) out += "\n" + finding_lines(findings, style);
  if (mendable > 0)
    out += fmt::format("\n  {} can be mended with nothing lost: nuvrat check --repair\n",
                       plural(mendable, "finding", "findings"));
  return out;
}

namespace {

constexpr std::size_t most_named = 20;

// A range is no file: where there are only ranges, no file was looked at.
std::string files_and_ranges(const Manifest& m) {
  const std::string files = plural(m.files(), "file", "files");
  return m.ranges.empty() ? files : files + " and " + plural(m.ranges.size(), "range", "ranges");
}

std::string left_out_lines(const ManifestVolume& v, const TextStyle& style) {
  std::string out;
  for (std::size_t i = 0; i < std::min(v.left_out.size(), most_named); ++i) {
    const LeftOut& l = v.left_out[i];
    out += wrap(
        fmt::format("not recorded: {}{}: {}",
                    l.path.empty() ? "a part of the root folder" : printable(l.path),
                    l.record ? fmt::format(" (record {})", *l.record) : "", printable(l.reason)),
        style.width, "       ", "         ",
        [&](const std::string& s) { return paint(s, bad, style); });
  }
  if (v.left_out.size() > most_named)
    out += fmt::format("       and {} more, in the manifest\n", v.left_out.size() - most_named);
  return out;
}

std::string encrypted_lines(const ManifestVolume& v, const TextStyle& style) {
  const std::vector<FileTree::Id> all = v.encrypted();
  if (all.empty()) return "";
  std::string names;
  for (std::size_t i = 0; i < std::min(all.size(), most_named); ++i)
    names += (i == 0 ? "" : ", ") + printable(v.tree.path(all[i]));
  return wrap(fmt::format("{} encrypted, recorded by what lies on the disk: {}{}",
                          plural(all.size(), "file is", "files are"), names,
                          all.size() > most_named ? ", …" : ""),
              style.width, "       ", "         ");
}

std::string unread_words(std::uint64_t places, std::uint64_t files) {
  const std::string parts = fmt::format("parts of {}", plural(files, "file", "files"));
  if (places == 0) return parts;
  return plural(places, "place", "places") + (files == 0 ? "" : " and " + parts);
}

}  // namespace

std::string manifest_text(const Manifest& m, const TextStyle& style) {
  std::string out = verdict(
      fmt::format("{}: recorded {}, {}{}", m.device, files_and_ranges(m), format_bytes(m.bytes()),
                  m.whole() ? ""
                            : fmt::format("; {} could not be read: the manifest is partial",
                                          unread_words(m.left_out(), m.unreadable_files()))),
      m.whole(), style);
  out +=
      fmt::format("\n  seal   {}\n  zone   {} for the times of FAT volumes\n\n", m.seal(), m.zone);
  for (const ManifestVolume& v : m.volumes) {
    out += fmt::format(
        "  {:<7}{:<6} {}  {}, {}, {}\n", part_name(v.number), name_of(v.info.kind),
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
    out += left_out_lines(v, style) + encrypted_lines(v, style);
  }
  for (const ManifestRange& r : m.ranges) {
    const bool nothing = r.unreadable.size() == 1 && r.unreadable[0].offset == 0 &&
                         r.unreadable[0].length == r.sectors * m.sector_size;
    out += fmt::format("  {:<7}{}: {}{}\n", part_name(r.number), r.description,
                       plural(r.sectors, "sector", "sectors"),
                       nothing ? ", none of which could be read"
                               : " recorded by one hash of the whole range");
    const auto note = [&](const std::string& text) {
      out += wrap(text, style.width, "       ", "         ",
                  [&](const std::string& s) { return paint(s, bad, style); });
    };
    if (!r.fault.empty()) note("its files are not recorded: " + printable(r.fault));
    for (const ByteRange& part : r.unreadable)
      note(fmt::format("unreadable: {} at offset {}", plural(part.length, "byte", "bytes"),
                       part.offset));
  }
  return out;
}

namespace {

std::string comparison_verdict(const Comparison& c, const Manifest& after) {
  const std::string files = files_and_ranges(after);
  if (!c.equal())
    return fmt::format("{}: {} from what was recorded", after.device,
                       plural(c.count, "difference", "differences"));
  if (!c.partial()) return fmt::format("{}: nothing was lost: {} as recorded", after.device, files);
  return fmt::format(
      "{}: {} as recorded, as far as could be read; {} could not be", after.device, files,
      unread_words(c.left_out, c.unreadable));
}

}  // namespace

std::string comparison_text(const Comparison& c, const Manifest& after, const TextStyle& style) {
  std::string out = verdict(comparison_verdict(c, after), c.equal() && !c.partial(), style);
  out += fmt::format("\n  seal recorded  {}\n  seal now       {}{}\n", c.seal_before, c.seal_after,
                     c.seal_before == c.seal_after ? "  equal" : "  not equal");
  const std::string indent(17, ' ');
  out += wrap(std::string("compared       names, sizes, contents, modified and created times, ") +
                  (c.accessed ? "accessed times, " : "") +
                  "the attributes read-only, hidden, system and archive, labels" +
                  (c.chosen ? "; of the partitions that were recorded" : ""),
              style.width, "  ", indent);
  out += wrap(std::string("not compared   ") +
                  (c.accessed ? "" : "accessed times, which reading changes; ") +
                  "owners, permissions and other attributes of NTFS; free space; tables",
              style.width, "  ", indent);
  if (!c.equal()) out += "\n" + difference_lines(c, style);
  return out;
}

}  // namespace nuvrat
