#include "report/words.h"

#include <algorithm>
#include <cmath>

#include <fmt/core.h>

#include <nuvrat/text.h>

namespace nuvrat::report {

std::string table_words(TableKind kind) {
  return kind == TableKind::gpt ? "GPT" : kind == TableKind::mbr ? "MBR" : "no table";
}

std::string device_words(const DeviceIdentity& device) {
  std::string out = device.kind == DeviceKind::image ? "image file" : name_of(device.kind);
  if (!device.model.empty()) out += ", " + printable(device.model);
  if (!device.serial.empty()) out += ", serial " + printable(device.serial);
  if (device.read_only) out += ", read-only";
  return out;
}

std::string step_words(const Assessment& a) {
  std::string out;
  for (auto step = a.steps.begin(); step != a.steps.end();) {
    const std::string name = step->name();
    const auto next = std::find_if(step, a.steps.end(),
                                   [&name](const Step& other) { return other.name() != name; });
    out += (out.empty() ? "" : ", then ") + name;
    if (next - step > 1) out += fmt::format(", in {} rewrites", next - step);
    step = next;
  }
  return out;
}

std::string goal_words(const Assessment& a) {
  return printable(texts_of(a.goals));
}

std::string number_words(const Assessment& a) {
  std::string changed;
  for (const Renumbering& r : a.numbers()) {
    if (r.before != r.after)
      changed += fmt::format("{}p{} → p{}", changed.empty() ? "" : ", ", r.before, r.after);
  }
  if (!changed.empty()) return changed;
  return deleted_words(a).empty() ? "every partition keeps its number"
                                  : "every partition that stays keeps its number";
}

Layout drawn(Layout layout, const Assessment& a) {
  if (layout.kind == TableKind::none && a.contents.size() == 1) {
    Partition whole;
    whole.sectors = layout.disk_sectors;
    layout.partitions = {whole};
  }
  return layout;
}

std::string deleted_words(const Assessment& a) {
  std::string out;
  for (const ExpectedChange& c : a.changes) {
    if (c.kind != ExpectedChange::Kind::gone || !c.path.empty()) continue;
    if (const Partition* p = a.before.find(c.partition))
      out += (out.empty() ? " but " : ", ") + part_name(p->number);
  }
  return out.empty() ? "" : out + ", deleted as agreed";
}

std::string place_words(const Difference& d) {
  return part_name(d.number) + (d.path.empty() ? "" : "/" + d.path);
}

std::vector<Contents> contents_after(const Assessment& a) {
  std::vector<Contents> out;
  for (Contents c : a.contents) {
    if (c.fate == Contents::Fate::gone) continue;
    c.kind = c.kind_after;
    for (const ExpectedChange& change : a.changes) {
      if (change.kind == ExpectedChange::Kind::relabelled && change.partition == c.partition)
        c.label = change.text;
    }
    out.push_back(std::move(c));
  }
  return out;
}

std::string time_words(double seconds) {
  const auto rounded = [](double n) { return static_cast<std::uint64_t>(std::llround(n)); };
  return seconds < 1      ? "under a second"
         : seconds < 90   ? "about " + plural(rounded(seconds), "second", "seconds")
         : seconds < 7200 ? "about " + plural(rounded(seconds / 60), "minute", "minutes")
                          : "about " + plural(rounded(seconds / 3600), "hour", "hours");
}

std::string count_words(const Comparison& c) {
  std::string out;
  const auto more = [&out](std::uint64_t count, const char* what) {
    if (count == 0) return;
    out += (out.empty() ? plural(count, "file", "files") : ", " + format_count(count)) + what;
  };
  more(c.unchanged, " unchanged");
  more(c.changed, " changed as planned");
  more(c.deleted, " deleted as agreed");
  more(c.added, " new");
  return out.empty() ? "none" : out;
}

}  // namespace nuvrat::report
