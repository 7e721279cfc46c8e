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

// Whose clusters these are nobody knows: kept as files or freed, as a person says.
bool mended_as_told(const Finding& f) {
  return f.code == Rule::fat_unowned || f.code == Rule::fat_chain_long ||
         f.code == Rule::fat_root_lost;
}

Lead check_lead(const Survey& survey) {
  const Findings findings = survey.all_findings();
  if (findings.empty())
    return {
        survey.not_looked_at().empty() ? "sound" : "no finding, but not all of it was looked at",
        ""};
  const std::string counts = severity_counts(findings);  // the gravest is the key
  const std::size_t comma = std::min(counts.find(','), counts.size());
  return {counts.substr(0, comma), counts.substr(comma)};
}

// What --repair would do about it.
std::string mend_lines(const Survey& survey) {
  std::uint64_t mended = 0, as_told = 0;
  bool all_is_unowned = false;  // it isn't freed
  const auto count = [&](const Findings& findings) {
    for (const Finding& f : findings) {
      all_is_unowned |= f.code == Rule::fat_root_lost;
      if (f.repairable) ++(mended_as_told(f) ? as_told : mended);
    }
  };
  count(survey.table.findings);
  std::string alone;
  for (const SurveyedPartition& p : survey.partitions) {
    if (!p.beyond_mending()) {
      count(p.findings);
    } else if (std::any_of(p.findings.begin(), p.findings.end(),
                           [](const Finding& f) { return f.repairable; })) {
      const unsigned number = p.partition.number;
      alone += (alone.empty() ? "" : ", ") + (number == 0 ? "the volume" : part_name(number));
    }
  }
  std::string out;
  if (mended > 0)
    out += fmt::format("\n  {} can be mended with nothing lost: nuvrat check --repair\n",
                       plural(mended, "finding", "findings"));
  if (as_told > 0)
    out += fmt::format("\n  {} only as told: nuvrat check --repair --unowned keep{}\n",
                       plural(as_told, "finding is mended", "findings are mended"),
                       all_is_unowned ? "" : ", or free");
  if (!alone.empty())
    out += fmt::format("\n  --repair leaves {} alone: an error there is for a person to decide\n",
                       alone);
  return out;
}

}  // namespace

std::string check_line(const Survey& survey) {
  const auto [key, rest] = check_lead(survey);
  return key + rest;
}

std::string check_text(const Survey& survey, const TextStyle& style) {
  const Findings findings = survey.all_findings();
  const std::vector<std::string> unseen = survey.not_looked_at();
  const auto [head, rest] = check_lead(survey);
  std::string out = verdict(survey.device.path,
                            findings.empty() && !unseen.empty() ? Tone::caution : tone_of(findings),
                            head, rest, style);
  const auto volumes = std::count_if(survey.partitions.begin(), survey.partitions.end(),
                                     [](const auto& s) { return s.volume.has_value(); });
  out += fmt::format("\n  table    {}\n  volumes  {}\n", table_words(survey.table.layout.kind),
                     volumes == 0 ? std::string("none read")
                                  : fmt::format("{} read, every folder and chain", volumes));
  out += unseen_lines(unseen, style);
  if (!findings.empty()) out += "\n" + finding_lines(findings, style);
  return out + mend_lines(survey);
}

namespace {

constexpr std::size_t max_named = 20;

// A range is not a file: where there are only ranges, no file was looked at.
std::string files_and_ranges(const Manifest& m) {
  const std::string files = plural(m.files(), "file", "files");
  return m.ranges.empty() ? files : files + " and " + plural(m.ranges.size(), "range", "ranges");
}

std::string left_out_lines(const ManifestVolume& v, const TextStyle& style) {
  std::string out;
  for (std::size_t i = 0; i < std::min(v.left_out.size(), max_named); ++i) {
    const LeftOut& l = v.left_out[i];
    out += wrap(
        fmt::format("not recorded: {}{}: {}",
                    l.path.empty() ? "a part of the root folder" : printable(l.path),
                    l.record ? fmt::format(" (record {})", *l.record) : "", printable(l.reason)),
        style, "       ", "         ");
  }
  if (v.left_out.size() > max_named)
    out += fmt::format("       and {} more, in the manifest\n", v.left_out.size() - max_named);
  return out;
}

std::string encrypted_lines(const ManifestVolume& v, const TextStyle& style) {
  const std::vector<FileTree::Id> all = v.encrypted();
  if (all.empty()) return "";
  std::string names;
  for (std::size_t i = 0; i < std::min(all.size(), max_named); ++i)
    names += (i == 0 ? "" : ", ") + printable(v.tree.path(all[i]));
  return wrap(fmt::format("{} encrypted, recorded by what is on the disk: {}{}",
                          plural(all.size(), "file is", "files are"), names,
                          all.size() > max_named ? ", …" : ""),
              style, "       ", "         ");
}

std::string unread_words(std::uint64_t places, std::uint64_t files, std::uint64_t ranges) {
  std::string out = places == 0 ? "" : plural(places, "place", "places");
  const auto add_parts = [&out](const std::string& of) {
    out += (out.empty() ? "parts of " : " and parts of ") + of;
  };
  if (files > 0) add_parts(plural(files, "file", "files"));
  if (ranges > 0) add_parts(plural(ranges, "partition", "partitions"));
  return out;
}

}  // namespace

namespace {

bool is_fat_volume(const ManifestVolume& v) {
  return format_of(v.info.kind) == VolumeFormat::fat;
}

// Nothing of what was read may be said to be there at one moment.
std::string disturbed_line(const Manifest& m, const TextStyle& style) {
  if (m.disturbance.empty()) return "";
  return wrap(
      "not of one moment: what was read first may not be there any more. Read the disk again when "
      "nothing writes to it",
      style, "  ", "    ");
}

std::string disturbed_words() {
  return toned(Tone::bad, "something else may have written to the disk meanwhile");
}

// Partitions that may be in it can't be found: nothing of it was read.
bool is_unseen(const ManifestRange& r) {
  return r.holds_nothing && !r.fault.empty();
}

std::string range_words(const ManifestRange& r, std::uint32_t sector_size) {
  const std::string all = plural(r.sectors, "sector", "sectors");
  std::uint64_t lost = 0;
  for (const ByteRange& part : r.unreadable) lost += part.length / sector_size;
  if (is_unseen(r)) return all + ", not looked at";
  if (lost >= r.sectors) return all + ", none of which could be read";
  if (lost == 0) return all + " recorded by one hash of the whole range";
  return fmt::format("{} of {} recorded by one hash", format_count(r.sectors - lost), all);
}

}  // namespace

std::string manifest_text(const Manifest& m, const std::string& file, const TextStyle& style) {
  const std::string recorded =
      fmt::format("recorded {}, {}", files_and_ranges(m), format_bytes(m.bytes()));
  std::string out =
      !m.whole()
          ? verdict(
                m.device, Tone::plain, recorded,
                fmt::format("; {} could not be read: the manifest is {}",
                            unread_words(m.left_out(), m.unreadable_files(), m.unreadable_ranges()),
                            toned(Tone::bad, "partial")),
                style)
      : m.disturbance.empty()
          ? verdict(m.device, Tone::good, recorded, "", style)
          : verdict(m.device, Tone::plain, recorded, "; " + disturbed_words(), style);
  out += "\n";
  if (!m.volumes.empty()) out += fmt::format("  seal   {}\n", m.seal());  // of files
  if (std::any_of(m.volumes.begin(), m.volumes.end(), is_fat_volume))
    out += fmt::format("  zone   {} for the times of FAT volumes\n", m.zone);
  if (!file.empty())
    out += wrap(fmt::format("next   'nuvrat verify {} --against {}'", as_argument(m.device),
                            as_argument(file)),
                style, "  ", "         ");
  out += disturbed_line(m, style) + "\n";
  for (const ManifestVolume& v : m.volumes) {
    out += fmt::format(
        "  {:<7}{:<6} {}  {}, {}, {}\n", part_name(v.number), name_of(v.info.kind),
        fit(printable(v.info.label), 12, true), plural(v.tree.file_count(), "file", "files"),
        plural(v.tree.directory_count(), "folder", "folders"), format_bytes(v.tree.total_bytes()));
    for (const auto& [id, parts] : v.unreadable) {
      for (const ByteRange& part : parts) {
        out += wrap(fmt::format("unreadable: {}, {} at offset {}", printable(v.tree.path(id)),
                                plural(part.length, "byte", "bytes"), part.offset),
                    style, "       ", "         ");
      }
    }
    out += left_out_lines(v, style) + encrypted_lines(v, style);
  }
  for (const ManifestRange& r : m.ranges) {
    out += fmt::format("  {:<7}{}: {}\n", part_name(r.number), r.description,
                       range_words(r, m.sector_size));
    const auto note = [&](const std::string& text) {
      out += wrap(text, style, "       ", "         ");
    };
    if (!r.fault.empty()) note("its files are not recorded: " + printable(r.fault));
    if (is_unseen(r)) continue;  // nobody tried
    for (const ByteRange& part : r.unreadable)
      note(fmt::format("unreadable: {} at offset {}", plural(part.length, "byte", "bytes"),
                       part.offset));
  }
  return out;
}

namespace {

// The wrong disk is the mistake that people fear most.
std::string another_disk(const Comparison& c) {
  if (2 * c.same >= c.recorded) return "";
  return fmt::format("; {} of {} as recorded: is this another disk?",
                     c.same == 0 ? "none" : "only " + format_count(c.same),
                     plural(c.recorded, "file is", "files are"));
}

std::string comparison_verdict(const Comparison& c, const Manifest& after, const TextStyle& style) {
  const std::string files = files_and_ranges(after);
  if (!c.equal())
    return verdict(after.device, Tone::bad, plural(c.count, "difference", "differences"),
                   " from what was recorded: " + difference_counts(c) + another_disk(c), style);
  if (!c.partial() && !after.disturbance.empty())
    return verdict(after.device, Tone::plain, files + " as recorded", "; " + disturbed_words(),
                   style);
  if (!c.partial())
    return verdict(after.device, Tone::good, files + (c.by_place == 0 ? " verified" : " in place"),
                   c.by_place == 0 ? ", all as recorded"
                                   : ", all as recorded, by their places: contents were not read",
                   style);
  // What could not be read then, and can be now, was not recorded.
  const std::uint64_t others = after.files() - std::min(after.files(), c.recorded);
  const std::string held = others == 0 ? files : plural(c.recorded, "file", "files");
  const std::string rest =
      others == 0 ? ""
                  : ", and " + plural(others, "file that was", "files that were") + " not recorded";
  return verdict(after.device, Tone::plain,
                 held + " as recorded, as far as could be read" + rest + "; ",
                 toned(Tone::bad, unread_words(c.left_out, c.unreadable, c.unreadable_ranges) +
                                      " could not be"),
                 style);
}

}  // namespace

std::string comparison_text(const Comparison& c, const Manifest& after, const TextStyle& style) {
  std::string out = comparison_verdict(c, after, style);
  if (c.proof == Proof::contents) {
    out += fmt::format("\n  seal recorded  {}\n  seal now       {}{}\n", c.seal_before,
                       c.seal_after, c.seal_before == c.seal_after ? "  equal" : "  not equal");
  } else {
    out += "\n";
  }
  out += disturbed_line(after, style);
  const std::string indent(17, ' ');
  out += wrap(std::string("compared       names, sizes, ") +
                  (c.by_place == 0 ? std::string("contents")
                                   : fmt::format("places of {} (contents of the others)",
                                                 plural(c.by_place, "file", "files"))) +
                  ", modified and created times, " + (c.accessed ? "accessed times, " : "") +
                  "the attributes read-only, hidden, system and archive, labels" +
                  (c.chosen ? "; of the partitions that were recorded" : ""),
              style, "  ", indent);
  const bool ntfs = std::any_of(after.volumes.begin(), after.volumes.end(),
                                [](const ManifestVolume& v) { return !is_fat_volume(v); });
  out += wrap(std::string("not compared   ") +
                  (c.by_place == 0 ? "" : "contents of files that were compared by place; ") +
                  (c.accessed ? "" : "accessed times, which reading changes; ") +
                  (ntfs ? "owners, permissions and other attributes of NTFS; " : "") +
                  "free space; tables",
              style, "  ", indent);
  if (!c.equal()) out += "\n" + difference_lines(c, style);
  return out;
}

}  // namespace nuvrat
