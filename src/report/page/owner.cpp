// What the owner reads first: how it ended, what was asked, what to do now, how to go back.

#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/text.h>

#include "report/page/html.h"
#include "report/page/sections.h"
#include "report/words.h"

namespace nuvrat {
namespace {

std::string paragraph(const std::string& html) {
  return "<p>" + html + "</p>\n";
}

std::string code(std::string_view text) {
  return "<code>" + esc(text) + "</code>";
}

// Files that were to get other contents, or to be new.
std::string written_words(const Assessment& a) {
  const auto count = std::count_if(a.changes.begin(), a.changes.end(), [](const ExpectedChange& c) {
    return c.kind == ExpectedChange::Kind::written;
  });
  return count == 0 ? ""
                    : fmt::format(", but for {} that got the contents that were planned",
                                  plural(static_cast<std::uint64_t>(count), "file", "files"));
}

std::string files_words(const CaseRecord& r) {
  const Manifest& m = *r.after;
  std::string out =
      m.files() == 0
          ? std::string("The disk holds no files that Nuvrat reads.")
          : fmt::format(
                "{} files with {} were read and hashed before the change and after it, and "
                "every one is as it was{}.",
                claim("files", m.files()),
                claim("bytes", format_bytes(m.bytes()), std::to_string(m.bytes())),
                written_words(r.job.assessment));
  if (!m.ranges.empty()) {
    out += fmt::format(" {} that Nuvrat can't read inside {} compared as a whole.",
                       plural(m.ranges.size(), "partition", "partitions"),
                       m.ranges.size() == 1 ? "was" : "were");
  }
  return out;
}

std::string left_behind_words(const CaseRecord& r) {
  if (r.left_behind == 0) return "";
  return fmt::format(
      " {} that the new format has no place for (permissions, streams, second names) "
      "{} in the technician's case folder, under {}.",
      plural(r.left_behind, "thing", "things"), r.left_behind == 1 ? "is" : "are",
      code("left-behind"));
}

const CaseEvent* last_end(const CaseRecord& r) {
  for (auto it = r.events.rbegin(); it != r.events.rend(); ++it) {
    if (it->event == "ended" || it->event == "stopped" || it->event == "cut off") return &*it;
  }
  return nullptr;
}

std::string progress_words(const CaseRecord& r) {
  return fmt::format("{} of {} done.", r.job.steps_done,
                     plural(r.job.assessment.steps.size(), "step", "steps"));
}

}  // namespace

Verdict verdict_of(const CaseRecord& r) {
  const std::string commands =
      fmt::format("{} finishes the job, {} goes back to the disk as it was.",
                  code("nuvrat resume " + r.job.folder.string()),
                  code("nuvrat revert " + r.job.folder.string()));
  switch (r.outcome) {
    case Outcome::done:
      return {"good", "✔",
              std::string("Done, and nothing was lost") +
                  (r.before && !r.before->whole() ? " of what could be read" : "") +
                  (r.left_behind > 0 ? " but what the new format can't hold" : "") +
                  deleted_words(r.job.assessment),
              files_words(r) + left_behind_words(r)};
    case Outcome::differs:
      return {
          "bad", "✖", "Done, but not everything is as it was",
          fmt::format("{} and {} are named below under Proof. The disk can still be put back.",
                      plural(r.comparison ? r.comparison->count : 0, "difference", "differences"),
                      plural(r.findings_after.size(), "finding", "findings"))};
    case Outcome::out_of_reach:
      return {"warn", "!", "Not done: this disk, as it is, does not allow it",
              "Nothing was written. What is in the way, and what would remove it, is below."};
    case Outcome::stopped:
      return {"warn", "!", "Not done: the disk is as it was",
              "The job ended before the change took effect. The reason is below."};
    case Outcome::cut_off:
      return {
          "bad", "!", "Cut off on the way",
          "The disk is the old one or the new one; which of the two, and that it is whole, only "
          "the disk itself can say, and it was not at hand for this page. " +
              commands};
    case Outcome::torn:
      return {"bad", "!", "Cut off in the middle of a sector, which is torn",
              "Until it is mended the disk is neither the old one nor the new one: don't use it. "
              "What stood in the sector is in the case. " +
                  commands};
    case Outcome::old_disk:
      return {"bad", "!", "Cut off before the change: the disk is the old one",
              "It can be used as before. " + commands};
    case Outcome::new_disk:
      return {"bad", "!", "Cut off after a change: the disk is whole, the job is not finished",
              progress_words(r) + " " + commands};
    case Outcome::reverting:
      return {"bad", "!", "The way back was cut off",
              "Until it is finished, neither use the disk nor write to it. " +
                  code("nuvrat revert " + r.job.folder.string()) + " finishes it."};
    case Outcome::reverted:
      return {"good", "↩", "Put back: the disk is as it was before the job",
              r.job.options.undo == Undo::full
                  ? "Every sector that the job had written holds again what it held before."
                  : "Every live sector holds again what it held before; free ones keep what was "
                    "written."};
  }
  return {};
}

std::string asked_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  std::string body;
  if (a.goals.empty()) {
    body = paragraph("What is wrong on the disk is to be mended, with nothing lost.");
  } else {
    body = "<ul>\n";
    for (const Goal& goal : a.goals)
      body += fmt::format("<li>{} ({}).</li>\n", sentence(in_words(goal)), code(goal.text()));
    body += "</ul>\n";
  }
  if (!a.steps.empty())
    body += paragraph(fmt::format("{} in {}: {}.", r.finished() ? "Done" : "To be done",
                                  plural(a.steps.size(), "step", "steps"), esc(step_words(a))));
  return section("asked", "What was asked", body);
}

std::string stands_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  if (r.outcome == Outcome::out_of_reach) {
    std::string body = "<ol class=\"steps\">\n";
    for (const Obstacle& o : a.obstacles) {
      body += fmt::format("<li data-obstacle=\"{}\"><strong>{}</strong><br>{}</li>\n", esc(o.code),
                          sentence(o.text),
                          o.remedy.empty() ? "" : "What would lift it: " + esc(o.remedy) + ".");
    }
    return section("why", "Why not", body + "</ol>\n");
  }
  if (r.finished() || r.outcome == Outcome::reverted) return "";
  const CaseEvent* end = last_end(r);
  if (end == nullptr) {
    return section("why", "Where the job is",
                   paragraph("The log ends without a reason, as after a power cut. " +
                             esc(progress_words(r))));
  }
  return section("why", "Why it ended",
                 paragraph(fmt::format("<strong>{}.</strong>", sentence(end->detail))) +
                     (end->remedy.empty() ? "" : paragraph(esc(end->remedy) + ".")) +
                     paragraph(esc(progress_words(r))));
}

std::string next_section(const CaseRecord& r) {
  if (!r.finished()) return "";
  std::string body = "<ol class=\"steps\">\n";
  for (const NextStep& step : next_steps(r.job.assessment)) {
    body += fmt::format("<li data-next=\"{}\"><strong>{}.</strong> {}</li>\n", step.code,
                        esc(step.title), esc(step.text));
  }
  return section("next", "What you do next", body + "</ol>\n");
}

std::string agreed_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  if (!a.in_reach()) return "";
  if (a.consents.empty())
    return section("agreed", "What was agreed to", paragraph("Nothing is lost by this change."));
  std::string body = "<ul>\n";
  for (const Consent& c : a.consents)
    body += fmt::format("<li data-consent=\"{}\">{}.</li>\n", esc(c.code), sentence(c.text));
  return section("agreed", r.finished() ? "What was agreed to" : "What is to be agreed to",
                 body + "</ul>\n");
}

std::string back_section(const CaseRecord& r) {
  if (r.journal_bytes == 0 || r.outcome == Outcome::stopped || r.outcome == Outcome::reverted)
    return "";
  const bool full = r.job.options.undo == Undo::full;
  return section(
      "back", "How to go back, and until when",
      paragraph(fmt::format("{} puts the disk back{}.",
                            code("nuvrat revert " + r.job.folder.string()),
                            full ? " byte for byte" : ", its live sectors byte for byte")) +
          paragraph(fmt::format(
              "It works until something writes to the disk: copying a file onto it, starting a "
              "computer from it, in many systems just opening it for writing. Nuvrat notices, says "
              "what changed, and then goes back only if told to give those changes up. It needs "
              "the case folder with its undo journal ({}): keep both until the disk has proved "
              "itself.",
              claim("journal", format_bytes(r.journal_bytes), std::to_string(r.journal_bytes)))));
}

}  // namespace nuvrat
