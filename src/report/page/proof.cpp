// For the engineer: figures, sectors, layouts, log.

#include <algorithm>
#include <map>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "report/lines.h"
#include "report/page/html.h"
#include "report/page/sections.h"
#include "report/words.h"

namespace nuvrat::report {
namespace {

constexpr std::size_t max_rows = 4000;  // of a table; what is left out is counted, never silent

// A count that differs as it was planned to is no difference.
std::string equal_words(const CaseRecord& r, bool equal) {
  if (equal) return "<span class=\"same\">equal</span>";
  return r.comparison && r.comparison->equal() ? "<span class=\"moved\">changed as planned</span>"
                                               : "<b class=\"changed\">not equal</b>";
}

HtmlTable figures(const CaseRecord& r) {
  HtmlTable out{"Files and seals, before and after", {"", "before", "after", ""}, {}, {}};
  const Manifest& b = *r.before;
  const auto row = [&out, &r](const char* what, const std::string& was, const std::string& is,
                              bool equal) {
    out.rows.push_back({what, was, is, equal_words(r, equal)});
  };
  if (!r.after) return out;
  const Manifest& a = *r.after;
  const auto counts = [&](const char* what, const char* name, std::uint64_t was, std::uint64_t is) {
    row(what, claim(std::string(name) + "-before", was), claim(std::string(name) + "-after", is),
        was == is);
  };
  counts("Files", "files", b.files(), a.files());
  counts("Folders", "folders", b.directories(), a.directories());
  counts("Bytes in files", "bytes", b.bytes(), a.bytes());
  counts("Files unreadable in part", "unreadable", b.unreadable_files(), a.unreadable_files());
  counts("Places that could not be read", "left-out", b.left_out(), a.left_out());
  counts("Partitions compared as a whole", "ranges", b.ranges.size(), a.ranges.size());
  if (a.proof == Proof::places) {
    counts("Compared by their places, contents not read", "places", b.placed(), a.placed());
    return out;
  }
  row("Seal over all paths, sizes and contents", claim("seal-before", b.seal(), b.seal()),
      claim("seal-after", a.seal(), a.seal()), b.seal() == a.seal());
  return out;
}

std::string volumes_table(const Manifest& m, const std::string& caption) {
  HtmlTable out{caption,
                {"volume", "kind", "label", "files", "folders", "bytes", "hash of the whole range"},
                {},
                {false, false, false, true, true, true, false}};
  for (const ManifestVolume& v : m.volumes) {
    out.rows.push_back({esc(part_name(v.number)), esc(title_of(v.info.kind)), esc(v.info.label),
                        format_count(v.tree.file_count()), format_count(v.tree.directory_count()),
                        format_count(v.tree.total_bytes()),
                        m.proof == Proof::places ? "files by their places, or by their own hashes"
                                                 : "each file by its own hash"});
  }
  for (const ManifestRange& range : m.ranges) {
    out.rows.push_back({esc(part_name(range.number)), esc(range.description), "", "", "", "",
                        range.placed ? "not read: compared by its place"
                                     : "<code>" + range.digest.hex() + "</code>"});
  }
  return out.text();
}

std::string findings_list(const Findings& findings, const std::string& none) {
  if (findings.empty()) return "<p>" + esc(none) + "</p>\n";
  std::string out = "<ul>\n";
  for (const Finding& f : findings) {
    const std::string where = f.place.text();
    out += fmt::format("<li><b>{}</b> <code>{}</code>: {}{}</li>\n", name_of(f.severity),
                       name_of(f.code), esc(f.text), where.empty() ? "" : " (" + esc(where) + ")");
  }
  return out + "</ul>\n";
}

// Three lanes over the whole disk; 1,000 columns, so that any number of ranges stays small.
std::string drawing(const CaseRecord& r) {
  constexpr unsigned columns = 1000;
  const Layout& layout = r.job.assessment.before;
  const double scale =
      columns / static_cast<double>(std::max<std::uint64_t>(layout.disk_sectors, 1));
  const auto column = [scale](std::uint64_t lba) {
    return std::min(static_cast<unsigned>(static_cast<double>(lba) * scale), columns - 1);
  };
  std::string out =
      "<figure><figcaption>Where on the disk: partitions, then what was written in each "
      "phase</figcaption>\n<div class=\"lanes\">\n";
  const auto lane = [&out](const std::string& name, const std::string& words,
                           const std::string& rects) {
    out += fmt::format(
        "<span>{0}</span><svg viewBox=\"0 0 1000 24\" preserveAspectRatio=\"none\" role=\"img\" "
        "aria-label=\"{0}: {1}\"><rect class=\"ground\" width=\"1000\" height=\"24\"/>{2}</svg>\n",
        esc(name), esc(words), rects);
  };
  std::string rects;
  std::string words;
  for (const Partition& p : drawn(layout, r.job.assessment).data_partitions()) {
    const unsigned from = column(p.start);
    const unsigned to = std::max(column(p.range().end()), from + 2);
    rects +=
        fmt::format("<rect class=\"part\" x=\"{}\" width=\"{}\" height=\"24\"/>", from, to - from);
    words += (words.empty() ? "" : ", ") + part_name(p.number);
  }
  lane("partitions", words, rects);
  for (const Phase phase : {Phase::prepare, Phase::switch_over, Phase::settle}) {
    std::map<unsigned, unsigned> spans;  // from column to the column after the last
    std::uint64_t sectors = 0;
    for (const WrittenRange& w : r.written) {
      if (w.phase != phase) continue;
      sectors += w.range.count;
      const unsigned from = column(w.range.first);
      unsigned& to = spans[from];
      to = std::max({to, from + 3, column(w.range.last()) + 1});
    }
    rects.clear();
    for (const auto& [from, to] : spans) {
      rects += fmt::format("<rect class=\"{}\" x=\"{}\" width=\"{}\" height=\"24\"/>",
                           name_of(phase), from, to - from);
    }
    lane(name_of(phase), plural(sectors, "sector", "sectors"), rects);
  }
  return out + "</div></figure>\n";
}

std::string owner_of(const Layout& layout, const SectorRange& range) {
  for (const Partition& p : layout.data_partitions()) {
    if (p.range().contains(range.first)) return part_name(p.number);
  }
  return layout.partitions.empty() ? "the volume" : "outside partitions";
}

// Rows that there are, and are not shown.
std::string and_more(std::uint64_t all, std::size_t shown) {
  return all <= shown ? "" : fmt::format("<p>… and {} more.</p>\n", format_count(all - shown));
}

std::string differences_table(const char* title, const char* what,
                              const std::vector<Difference>& listed, std::uint64_t all) {
  HtmlTable list{title, {"kind", "where", what}, {}, {}};
  for (const Difference& d : listed) {
    if (list.rows.size() < max_rows)
      list.rows.push_back({esc(name_of(d.kind)), esc(place_words(d)), esc(d.text)});
  }
  return list.text() + and_more(all, list.rows.size());
}

std::string comparison_part(const Comparison& c) {
  std::string out =
      fmt::format("<p>Differences in names, sizes, contents, times and attributes: {}.{}</p>\n",
                  claim("differences", c.count),
                  c.planned.empty() ? "" : " What was planned is not among them:");
  if (!c.planned.empty())
    out += differences_table("Changes that were planned", "what it is", c.planned, c.planned_count);
  if (!c.equal())
    out += differences_table("Differences", "what it was and is", c.differences, c.count);
  return out;
}

// A volume that can be read again is said to be so elsewhere.
std::string left_out_part(const Manifest& before, const Expectation& expectation) {
  std::uint64_t all = before.left_out();
  HtmlTable list{
      "Not readable, and neither recorded nor compared", {"place", "why"}, {}, {false, false}};
  for (const ManifestVolume& v : before.volumes) {
    for (const LeftOut& l : v.left_out) {
      if (list.rows.size() < max_rows)
        list.rows.push_back({esc(part_name(v.number) + "/" + l.path), esc(l.reason)});
    }
  }
  for (const ManifestRange& range : before.ranges) {
    if (range.fault.empty()) continue;
    if (expectation.opens(range.start)) {
      --all;
    } else if (list.rows.size() < max_rows) {
      list.rows.push_back({esc(part_name(range.number)), esc(range.fault)});
    }
  }
  return all == 0 ? "" : list.text() + and_more(all, list.rows.size());
}

std::string unreadable_part(const Manifest& before) {
  if (before.unreadable_files() == 0) return "";
  HtmlTable list{"Files that could not be read in full before",
                 {"file", "bytes from", "bytes"},
                 {},
                 {false, true, true}};
  std::uint64_t all = 0;
  for (const ManifestVolume& v : before.volumes) {
    for (const auto& [id, parts] : v.unreadable) {
      for (const auto& part : parts) {
        if (++all > max_rows) continue;
        list.rows.push_back({esc(part_name(v.number) + "/" + v.tree.path(id)),
                             format_count(part.offset), format_count(part.length)});
      }
    }
  }
  return list.text() + and_more(all, list.rows.size());
}

}  // namespace

std::string proof_section(const CaseRecord& r) {
  std::string body;
  if (r.before && r.after) {
    body += figures(r).text() + comparison_part(*r.comparison) +
            volumes_table(*r.after, "Volumes afterwards");
  } else if (r.before) {
    body += fmt::format("<p>Recorded before: {} files, {} bytes, {}.</p>\n",
                        claim("files-before", r.before->files()),
                        claim("bytes-before", r.before->bytes()),
                        r.before->proof == Proof::places
                            ? std::string("by their places")
                            : "seal " + claim("seal-before", r.before->seal(), r.before->seal()));
    body += volumes_table(*r.before, "Volumes as recorded before");
  } else {
    body += "<p>The files were not recorded: the job ended sooner.</p>\n";
  }
  body += "<h3>The check before</h3>\n" +
          findings_list(r.job.assessment.findings, "Table and volumes were sound: no rule broken.");
  if (r.finished()) {
    const Findings made = new_findings(r.job.assessment.findings, r.findings_after);
    body += "<h3>The check after</h3>\n" +
            findings_list(made, r.findings_after.empty()
                                    ? "Table and volumes are sound: no rule broken."
                                    : "Nothing but what the check before found.");
    if (!made.empty() && made.size() < r.findings_after.size())
      body += fmt::format("<p>And {} as before.</p>\n",
                          plural(r.findings_after.size() - made.size(), "finding", "findings"));
  }
  if (r.before) {
    const bool finished = r.outcome == Outcome::done;
    body += left_out_part(*r.before, finished ? r.job.assessment.expectation() : Expectation()) +
            unreadable_part(*r.before);
  }
  return section("proof", "Proof", body);
}

std::string sectors_section(const CaseRecord& r) {
  if (r.written.empty()) {
    return section("sectors", "Every sector written", "<p>No sector was written.</p>\n");
  }
  const Assessment& a = r.job.assessment;
  SectorSet all;
  for (const WrittenRange& w : r.written) all.add(w.range);
  std::string lead = fmt::format(
      "<p>{} sectors in {} ranges{}. Prepared sectors were free; the switch is the one sector that "
      "makes the change count; settling tidies up after it.</p>\n",
      claim("sectors-written", all.count()), claim("ranges-written", r.written.size()),
      r.finished() ? "" : " were written, or may have been");
  HtmlTable table{"Every range written, in order, and why",
                  {"first sector", "sectors", "phase", "step", "where", "why"},
                  {},
                  {true, true, false, true, false, false}};
  for (const WrittenRange& w : r.written) {
    if (table.rows.size() == max_rows) break;
    table.rows.push_back({fmt::format("{}", w.range.first), fmt::format("{}", w.range.count),
                          fmt::format("<span class=\"dot {0}\"></span>{0}", name_of(w.phase)),
                          fmt::format("{}", w.step + 1), esc(owner_of(a.before, w.range)),
                          esc(w.what)});
  }
  std::string rest;
  if (r.written.size() > max_rows) {
    rest = fmt::format(
        "<p>… and {} ranges more: <code>nuvrat report CASE --json</code> lists "
        "all.</p>\n",
        format_count(r.written.size() - max_rows));
  }
  return section("sectors", "Every sector written", lead + drawing(r) + table.text() + rest);
}

std::string layout_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  const auto table = [&](const Layout& raw, const std::vector<Contents>& contents,
                         const std::string& caption) {
    const Layout layout = drawn(raw, a);
    HtmlTable out{caption,
                  {"part", "role", "start", "sectors", "size", "type", "holds", "label"},
                  {},
                  {false, false, true, true, true, false, false, false}};
    for (const Partition& p : layout.partitions) {
      const auto it = std::find_if(contents.begin(), contents.end(),
                                   [&p](const Contents& c) { return c.partition == p.id; });
      const bool holds = it != contents.end() && p.role != Role::extended;
      out.rows.push_back({esc(part_name(p.number)) + (p.active ? " (active)" : ""),
                          p.number == 0 ? "volume" : name_of(p.role), fmt::format("{}", p.start),
                          fmt::format("{}", p.sectors),
                          format_bytes(p.sectors * layout.sector_size),
                          p.number == 0 ? "" : esc(describe(p.type)), holds ? esc(it->kind) : "",
                          holds ? esc(it->label) : ""});
    }
    return out.text();
  };
  std::string body = table(a.before, a.contents, "Partitions before");
  if (a.in_reach())
    body += table(a.after, contents_after(a),
                  r.finished() ? "Partitions after" : "Partitions as planned");
  return section("layout", "Partitions, in sectors", body);
}

std::string log_section(const CaseRecord& r) {
  HtmlTable out{"Events, in UTC", {"time", "event", ""}, {}, {}};
  for (const CaseEvent& e : r.events) {
    if (out.rows.size() == max_rows) break;
    std::string time = e.time.substr(0, 19);
    std::replace(time.begin(), time.end(), 'T', ' ');
    out.rows.push_back({esc(time), esc(e.event), esc(e.detail)});
  }
  return section("log", "The job's log",
                 out.rows.empty() ? "<p>The log is empty.</p>\n" : out.text());
}

}  // namespace nuvrat::report
