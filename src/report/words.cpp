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
  std::string out;
  for (const Goal& goal : a.goals) out += (out.empty() ? "" : " ") + printable(goal.text());
  return out;
}

namespace {

std::string in_capitals(std::string text) {
  for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
  return text;
}

std::string of_disk(const Goal& goal) {
  if (goal.subject == "table")
    return fmt::format("the partition table is to be {} {}", goal.state == "mbr" ? "an" : "a",
                       in_capitals(goal.state));
  if (goal.subject == "boot")
    return fmt::format("the system is to be started by {}",
                       goal.state == "uefi" ? "UEFI" : "legacy firmware");
  if (goal.subject == "esp")
    return fmt::format("the EFI system partition is to be {} long", goal.state);
  if (goal.subject == "names") return "names that FAT can't spell may become others";
  return "";
}

std::string of_gap(const Goal& goal) {
  const std::size_t colon = std::min(goal.state.find(':'), goal.state.size());
  const std::string kind = goal.state.substr(0, colon);
  return fmt::format("the gap {} is to become a partition{}{}", goal.subject,
                     kind == "raw" ? " on which nothing is written" : " with " + in_capitals(kind),
                     colon == goal.state.size() ? "" : " of " + goal.state.substr(colon + 1));
}

// `part` is "p3", or "volume" of a disk without a table.
std::string of_whole(const std::string& part, const std::string& state) {
  if (part == "volume") return fmt::format("the volume is to be {}", in_capitals(state));
  if (state == "gone") return fmt::format("partition {} is to be deleted", part);
  if (state == "logical" || state == "primary")
    return fmt::format("partition {} is to be {}", part, state);
  return fmt::format("the volume on {} is to be {}", part, in_capitals(state));
}

std::string of_size(const std::string& part, const std::string& state) {
  const char first = state[0];
  return fmt::format("{} is to be {}", part == "volume" ? "the volume" : "partition " + part,
                     state == "max"   ? "as long as there is room"
                     : state == "min" ? "as short as its files allow"
                     : first == '+'   ? state.substr(1) + " longer"
                     : first == '-'   ? state.substr(1) + " shorter"
                                      : state + " long");
}

std::string of_field(const std::string& part, const std::string& field, const std::string& state) {
  const std::string volume = part == "volume" ? "the volume" : "the volume on " + part;
  if (field == "letter")
    return fmt::format("partition {} is to have the drive letter {}", part, in_capitals(state));
  if (field == "label")
    return fmt::format("{} is to have {}", volume,
                       state.empty() ? "no label" : "the label '" + printable(state) + "'");
  if (field == "size") return of_size(part, state);
  if (field == "front")
    return fmt::format("partition {} is to begin {}", part,
                       state == "max" ? "as early as there is room" : state.substr(1) + " earlier");
  if (field == "cluster")
    return fmt::format("{} is to have clusters of {}", volume,
                       state == "512" ? "512 bytes" : state);
  if (field == "active")
    return fmt::format("partition {} is to be {}", part, state == "yes" ? "active" : "not active");
  if (field == "name")
    return fmt::format("partition {} is to have the name '{}'", part, printable(state));
  return fmt::format("partition {} is to have the type that goes with its volume", part);
}

}  // namespace

std::string in_words(const Goal& goal) {
  if (std::string words = of_disk(goal); !words.empty()) return words;
  if (goal.subject[0] == 'g') return of_gap(goal);
  const std::size_t dot = std::min(goal.subject.find('.'), goal.subject.size());
  const std::string part = goal.subject.substr(0, dot);
  if (dot == goal.subject.size()) return of_whole(part, goal.state);
  return of_field(part, goal.subject.substr(dot + 1), goal.state);
}

std::string number_words(const Assessment& a) {
  std::string changed;
  for (const Renumbering& r : a.numbers) {
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
    for (const Partition& p : a.before.data_partitions()) {
      if (p.start == c.start) out += (out.empty() ? " but " : ", ") + part_name(p.number);
    }
  }
  return out.empty() ? "" : out + ", deleted as planned";
}

std::string place_words(const Difference& d) {
  return part_name(d.number) + (d.path.empty() ? "" : "/" + d.path);
}

std::vector<Contents> contents_after(const Assessment& a) {
  std::vector<Contents> out;
  for (Contents c : a.contents) {
    const std::uint64_t before = c.start;
    const bool added = c.fate == Contents::Fate::added;
    const auto start = added ? before : start_after(a.changes, before);
    if (!start) continue;
    c.kind = c.kind_after;
    c.start = *start;
    for (const ExpectedChange& change : a.changes) {
      if (change.kind == ExpectedChange::Kind::relabelled && change.start == before)
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
  std::string out = plural(c.unchanged, "file", "files") + " unchanged";
  const auto more = [&out](std::uint64_t count, const char* what) {
    if (count > 0) out += fmt::format(", {} {}", format_count(count), what);
  };
  more(c.changed, "changed as planned");
  more(c.deleted, "deleted as agreed");
  more(c.added, "new");
  return out;
}

}  // namespace nuvrat::report
