// What the owner reads first: how it ended, what was asked, what to do now, how to go back.

#include <algorithm>
#include <array>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "report/lines.h"
#include "report/page/html.h"
#include "report/page/sections.h"
#include "report/words.h"

namespace nuvrat::report {
namespace {

std::string paragraph(const std::string& html) {
  return "<p>" + html + "</p>\n";
}

std::string code(std::string_view text) {
  return "<code>" + esc(text) + "</code>";
}

// The other files, each kind with its count.
std::string other_files_words(const Comparison& c) {
  std::string out;
  const auto say = [&out](std::uint64_t count, const char* one, const char* many) {
    if (count > 0) out += " " + plural(count, "file", "files") + " " + (count == 1 ? one : many);
  };
  say(c.changed, "was changed as planned.", "were changed as planned.");
  say(c.deleted, "was deleted, as agreed.", "were deleted, as agreed.");
  say(c.added, "is new, as planned.", "are new, as planned.");
  return out;
}

// Files on a volume that could not be read before.
std::string opened_words(const Comparison& c) {
  if (c.opened == 0) return "";
  return fmt::format(
      "{} with {}, which could not be read any more, can be read again. {} ",
      plural(c.opened, "file", "files"), format_bytes(c.opened_bytes),
      c.proof == Proof::places
          ? "Nothing was written but the sector that was lost."
          : "The sector that was lost was written, and every other one there is as it was before.");
}

std::string files_words(const CaseRecord& r) {
  const Manifest& m = *r.after;
  const bool by_places = r.job.options.proof == Proof::places;
  std::string out = opened_words(*r.comparison);
  const Comparison& c = *r.comparison;
  const std::string bytes =
      claim("bytes", format_bytes(c.unchanged_bytes), std::to_string(c.unchanged_bytes));
  out += c.unchanged == 0 && (!out.empty() || c.changed + c.deleted + c.added > 0) ? std::string()
         : c.unchanged == 0 ? std::string("The disk holds no files that Nuvrat reads.")
         : by_places
             ? fmt::format(
                   "{} files with {} have the names, sizes and times that they had. All but those "
                   "that had to move are in the places where they were, and nothing was written "
                   "there. Files that had to move were read before and after, and are the same. "
                   "The contents of the others were not read.",
                   claim("files", c.unchanged), bytes)
             : fmt::format(
                   "{} files with {} were read in full before the change and after it, and "
                   "are unchanged.",
                   claim("files", c.unchanged), bytes);
  out += other_files_words(c);
  if (!m.ranges.empty()) {
    out += fmt::format(" {} that Nuvrat can't read inside {}.",
                       plural(m.ranges.size(), "partition", "partitions"),
                       by_places ? m.ranges.size() == 1 ? "is where it was" : "are where they were"
                       : m.ranges.size() == 1 ? "was compared as a whole"
                                              : "were compared as a whole");
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

bool can_go_on(const CaseRecord& r) {
  return r.outcome == Outcome::cut_off || r.outcome == Outcome::torn ||
         r.outcome == Outcome::old_disk || r.outcome == Outcome::new_disk;
}

// The first things that are not as they were.
std::string different_words(const CaseRecord& r) {
  constexpr std::size_t most = 5;
  std::string out;
  if (r.comparison && r.comparison->count > 0) {
    out = plural(r.comparison->count, "thing is", "things are") + " not as before: ";
    const auto& all = r.comparison->differences;
    for (std::size_t i = 0; i < std::min(all.size(), most); ++i)
      out += fmt::format("{}{} ({})", i == 0 ? "" : ", ", esc(place_words(all[i])),
                         name_of(all[i].kind));
    out += r.comparison->count > most ? ", and more, listed below. " : ". ";
  }
  const Findings made = new_findings(r.job.assessment.findings, r.findings_after);
  if (!made.empty())
    out += fmt::format("The check afterwards found {} that {} not there before: {}.",
                       plural(made.size(), "thing", "things"), made.size() == 1 ? "was" : "were",
                       esc(made.front().text));
  return out;
}

}  // namespace

Verdict verdict_of(const CaseRecord& r) {
  switch (r.outcome) {
    case Outcome::done:
      return {"good", "✔",
              std::string(r.job.options.proof == Proof::places ? "Done, and every file is there"
                                                               : "Done, and nothing was lost") +
                  (r.comparison->partial() ? " of what could be read" : "") +
                  (r.left_behind > 0 ? " but what the new format can't hold" : "") +
                  deleted_words(r.job.assessment),
              files_words(r) + left_behind_words(r)};
    case Outcome::differs:
      return {"bad", "✖", "Don't use this disk yet: not everything is as it was",
              "Bring it back to whoever did the work: it can still be put back to what it was. " +
                  different_words(r)};
    case Outcome::out_of_reach:
      return {"warn", "!", "Not done: this disk, as it is, does not allow it",
              "Nothing was written. The reasons are below, each with what would remove it."};
    case Outcome::rehearsed:
      return {"warn", "!", "Rehearsed: it can be done, and nothing was done yet",
              "Every step was played through on a copy in memory, and compared there. The disk "
              "is as it was."};
    case Outcome::stopped:
      return {"warn", "!", "Not done: the disk is as it was",
              "The job ended before the change took effect. The reason is below."};
    case Outcome::cut_off:
      return {
          "bad", "!", "Don't use this disk yet: the work was cut off",
          "Bring it back to whoever did the work. It reads as it did before the change, or as it "
          "does after it; which of the two, and that it is whole, only the disk itself can say, "
          "and it was not at hand for this page."};
    case Outcome::torn:
      return {"bad", "!", "Don't use this disk: the work was cut off in the middle of a sector",
              "Bring it back to whoever did the work. Until it is mended the disk reads "
              "neither as before the change nor as after it; what was in that sector is kept, and "
              "can be put back."};
    case Outcome::old_disk:
      return {"warn", "!", "Not done: the work was cut off before the change",
              "The disk is as it was, and can be used as before. Bring it back when the work is to "
              "be done."};
    case Outcome::new_disk:
      return {"bad", "!", "Don't use this disk yet: the work was cut off on the way",
              "Bring it back to whoever did the work. The disk is whole, but not finished. " +
                  progress_words(r)};
    case Outcome::reverting:
      return {"bad", "!", "Don't use this disk: the way back was cut off",
              "Bring it back to whoever did the work. Until the way back is finished, neither use "
              "the disk nor write to it."};
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
    body = paragraph("The disk's damaged structures are to be mended, with nothing lost.");
  } else {
    body = "<ul>\n";
    for (const Goal& goal : a.goals)
      body += fmt::format("<li>{} ({}).</li>\n", sentence(goal.sentence()), code(goal.text()));
    body += "</ul>\n";
  }
  return section("asked", "Asked for", body);
}

std::string stands_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  if (r.outcome == Outcome::out_of_reach) {
    std::string body = "<ol class=\"steps\">\n";
    for (const Obstacle& o : a.obstacles) {
      body += fmt::format("<li data-obstacle=\"{}\"><strong>{}</strong><br>{}</li>\n", name_of(o),
                          sentence(o.text),
                          o.remedy.empty() ? "" : "This would remove it: " + esc(o.remedy) + ".");
    }
    return section("why", "Why not", body + "</ol>\n");
  }
  if (r.finished() || r.outcome == Outcome::reverted || r.outcome == Outcome::rehearsed) return "";
  const CaseEvent* end = last_end(r);
  if (end == nullptr) {
    return section("why", "Where the job is",
                   paragraph("The log ends without a reason, as after a power cut. " +
                             esc(progress_words(r))));
  }
  // Of a job that is to go on, the commands are with the case.
  return section(
      "why", "Why it ended",
      paragraph(fmt::format("<strong>{}.</strong>", sentence(end->detail))) +
          (end->remedy.empty() || can_go_on(r) ? "" : paragraph(esc(end->remedy) + ".")) +
          (r.outcome == Outcome::new_disk ? "" : paragraph(esc(progress_words(r)))));
}

std::string next_section(const CaseRecord& r) {
  if (r.outcome != Outcome::done) return "";  // one that differs is to come back first
  std::string body = "<ol class=\"steps\">\n";
  for (const NextStep& step : next_steps(r.job.assessment)) {
    body += fmt::format("<li data-next=\"{}\"><strong>{}.</strong> {}</li>\n", step.code,
                        esc(step.title), esc(step.text));
  }
  return section("next", "Your next steps", body + "</ol>\n");
}

std::string agreed_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  if (!a.in_reach()) return "";
  if (a.consents.empty())
    return section("agreed", "Agreed to", paragraph("Nothing is lost by this change."));
  std::string body = "<ul>\n";
  for (const Consent& c : a.consents)
    body +=
        fmt::format("<li data-consent=\"{}\">{}.</li>\n", name_of(c.code), sentence(a.text_of(c)));
  return section("agreed", r.finished() ? "Agreed to" : "To be agreed to", body + "</ul>\n");
}

std::string back_section(const CaseRecord& r) {
  if (r.journal_bytes == 0 || r.outcome == Outcome::rehearsed || r.outcome == Outcome::stopped ||
      r.outcome == Outcome::reverted)
    return "";
  const bool full = r.job.options.undo == Undo::full;
  return section(
      "back", "How to go back, and until when",
      paragraph(fmt::format("{} puts the disk back{}.", code("nuvrat revert " + r.job.folder),
                            full ? " byte for byte" : ", its live sectors byte for byte")) +
          paragraph(fmt::format(
              "It works until something writes to the disk: copying a file onto it, starting a "
              "computer from it, in many systems just opening it for writing. Nuvrat notices, says "
              "what changed, and then goes back only if told to give those changes up. It needs "
              "the case folder with its undo journal ({}): keep both until the disk has proved "
              "itself.",
              claim("journal", format_bytes(r.journal_bytes), std::to_string(r.journal_bytes)))));
}

std::string words_section() {
  constexpr std::array words{
      std::pair{"Partition",
                "A part of the disk with a number (p1, p2 …); what is on it is a "
                "volume, with a file system such as FAT32 or NTFS."},
      std::pair{"Partition table",
                "Where on the disk each partition is. MBR is the old kind, GPT "
                "the newer one."},
      std::pair{"UEFI, legacy",
                "The two ways in which a computer's firmware starts a system: the "
                "newer one and the old one, also called CSM."},
      std::pair{"Hash",
                "A long number made from all bytes of a file; when one byte changes, it "
                "does, too. A seal is one such number for all files of a disk."},
      std::pair{"Tag", "Four characters by which the technician's tool knows this very disk."},
      std::pair{"Case", "The folder with the records of the work, and the way back."},
  };
  std::string body = "<dl class=\"words\">\n";
  for (const auto& [word, meaning] : words)
    body += fmt::format("<div><dt>{}</dt><dd>{}</dd></div>\n", word, esc(meaning));
  return section("words", "The words", body + "</dl>\n");
}

std::string identity_section(const CaseRecord& r) {
  const Assessment& a = r.job.assessment;
  const Layout& l = a.before;
  const std::string folder = r.job.folder;
  std::string body = "<dl class=\"facts\">\n";
  const auto fact = [&body](const char* name, const std::string& html) {
    body += fmt::format("<div><dt>{}</dt><dd>{}</dd></div>\n", name, html);
  };
  fact("Named", code(a.device.path));
  fact("Sectors",
       fmt::format("{} of {} bytes", claim("disk-sectors", l.disk_sectors), l.sector_size));
  fact("Tag", claim("tag-before", a.tag, a.tag) +
                  (r.tag_after.empty() || r.tag_after == a.tag
                       ? ""
                       : ", now " + claim("tag-after", r.tag_after, r.tag_after)));
  fact("Case", code(folder));
  if (!a.steps.empty()) fact("Steps", esc(step_words(a)));
  if (r.finished()) fact("Took", esc(time_words(r.seconds)));
  body += "</dl>\n";
  if (can_go_on(r))
    body += paragraph(code("nuvrat resume " + folder) + " finishes the job, " +
                      code("nuvrat revert " + folder) + " goes back to the disk as it was.");
  if (r.outcome == Outcome::reverting)
    body += paragraph(code("nuvrat revert " + folder) + " finishes the way back.");
  return section("identity", "The disk and its case", body);
}

}  // namespace nuvrat::report
