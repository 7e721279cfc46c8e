// The page as a whole.

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/whole_file.h"
#include "report/lines.h"
#include "report/page/html.h"
#include "report/page/sections.h"
#include "report/style.h"
#include "report/words.h"

namespace nuvrat {
using namespace report;
namespace {

std::string minute_of(const std::string& time) {
  std::string out = time.substr(0, 16);
  if (out.size() > 10) out[10] = ' ';
  return esc(out) + " UTC";
}

std::string facts(const CaseRecord& r, const Letterhead& letterhead) {
  const Layout& l = r.job.assessment.before;
  const std::uint64_t bytes = l.disk_sectors * l.sector_size;
  std::string out = "<dl class=\"facts\">\n";
  const auto fact = [&out](const char* name, const std::string& html) {
    if (!html.empty()) out += fmt::format("<div><dt>{}</dt><dd>{}</dd></div>\n", name, html);
  };
  fact("Disk", fmt::format("{}, {}", esc(device_words(r.job.assessment.device)),
                           claim("disk-bytes", format_bytes(bytes), std::to_string(bytes))));
  fact("Owner", esc(letterhead.owner));
  fact("Technician", esc(letterhead.technician));
  fact("Job", esc(letterhead.job));
  if (!r.events.empty()) {
    fact("Begun", minute_of(r.events.front().time));
    fact(r.finished() ? "Finished" : "Last known", minute_of(r.events.back().time));
  }
  return out + "</dl>\n";
}

}  // namespace

std::string report_html(const CaseRecord& r, const Letterhead& letterhead) {
  const Assessment& a = r.job.assessment;
  const Verdict verdict = verdict_of(r);
  const std::string title = a.steps.empty() ? "Job report" : step_words(a);
  std::string out = fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
      "<meta name=\"color-scheme\" content=\"light dark\">\n<link rel=\"icon\" href=\"data:,\">\n"
      "<title>{} — {}</title>\n<style>\n{}</style>\n</head>\n<body>\n"
      "<a class=\"skip\" href=\"#main\">To the report</a>\n",
      esc(verdict.headline), esc(title), page_style());
  out += fmt::format(
      "<header class=\"{0}\" data-outcome=\"{1}\">\n<p class=\"kicker\">Nuvrat: report on this "
      "disk</p>\n<h1><span class=\"mark\" aria-hidden=\"true\">{2}</span> {3}</h1>\n"
      "<p class=\"lead\">{4}</p>\n</header>\n<main id=\"main\">\n{5}",
      verdict.tone, name_of(r.outcome), verdict.mark, esc(verdict.headline), verdict.text,
      facts(r, letterhead));
  out += next_section(r) + stands_section(r) + disk_section(r) + asked_section(r) +
         agreed_section(r) + back_section(r) + words_section();
  out += "<p class=\"divide\">The rest is for a reader who wants to check it.</p>\n";
  out += identity_section(r) + changes_section(r) + proof_section(r) + sectors_section(r) +
         layout_section(r) + log_section(r);
  return out +
         "</main>\n<footer><p>Made from the case folder alone. The record of every file is in "
         "<code>before.manifest</code> and <code>after.manifest</code> there.</p></footer>\n"
         "</body>\n</html>\n";
}

void save_report(const CaseRecord& record, const std::string& path, const Letterhead& letterhead) {
  base::write_whole_file(path, report_html(record, letterhead), base::mode_for_others);
}

std::string report_text(const CaseRecord& record, const std::string& path, const TextStyle& style) {
  const Verdict v = verdict_of(record);
  return verdict(record.job.folder, v.tone == "good" ? Tone::good : Tone::bad, v.headline, "",
                 style) +
         "\n" + wrap("page     " + path, style, "  ", "           ");
}

}  // namespace nuvrat
