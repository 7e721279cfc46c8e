#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/plan.h"

namespace nuvrat::plan {
namespace {

void require_same(bool same, const Goal& goal) {
  if (same) return;
  throw Error(ErrorCode::words,
              fmt::format("two goals contradict each other about {}", goal.subject), {},
              "Give one of them");
}

template <typename Map, typename Value>
void put(Map& map, unsigned number, Value value, const Goal& goal) {
  const auto [it, added] = map.emplace(number, value);
  require_same(added || it->second == value, goal);
}

template <typename Value>
void put(std::optional<Value>& wish, Value value, const Goal& goal) {
  require_same(!wish || *wish == value, goal);
  wish = value;
}

std::optional<VolumeKind> volume_state(const std::string& state) {
  const VolumeKind kind = kind_named(state);
  return is_fat(kind) || kind == VolumeKind::ntfs ? std::optional(kind) : std::nullopt;
}

// "4KiB"
std::uint32_t cluster_state(const std::string& state) {
  const auto number = static_cast<std::uint32_t>(std::stoul(state));
  return state.ends_with("KiB") ? number * 1024 : number;
}

SizeWish size_state(const std::string& state) {
  if (state == "max") return {SizeWish::Kind::max, 0};
  if (state == "min") return {SizeWish::Kind::min, 0};
  const auto kind = state[0] == '+'   ? SizeWish::Kind::more
                    : state[0] == '-' ? SizeWish::Kind::less
                                      : SizeWish::Kind::exactly;
  return {kind, *parse_bytes(kind == SizeWish::Kind::exactly ? state : state.substr(1))};
}

// "fat32:20GiB"
GapWish gap_state(const std::string& state) {
  const std::size_t colon = std::min(state.find(':'), state.size());
  return {kind_named(state.substr(0, colon)),
          colon == state.size() ? 0 : *parse_bytes(state.substr(colon + 1))};
}

void require_sense(const Wishes& w, const Layout& layout) {
  if (w.safe_names && w.volumes.empty())
    throw Error(ErrorCode::words, "names are made safe when a volume becomes FAT", {},
                "Say p1=fat32 as well, or leave that goal out");
  if (w.esp != 0 && w.boot != StartWay::uefi)
    throw Error(ErrorCode::words, "an EFI system partition is made where firmware is to use it", {},
                "Say boot=uefi as well, or leave that goal out");
  const TableKind kind = w.table.value_or(layout.kind);
  const auto wrong = [](const std::string& text, const std::string& remedy) {
    throw Error(ErrorCode::words, text, {}, remedy);
  };
  if (!w.roles.empty() && kind == TableKind::gpt) {
    wrong("a GPT knows neither primary nor logical partitions",
          "Leave that goal out, or say table=mbr");
  }
  if (!w.names.empty() && kind == TableKind::mbr) {
    wrong("an MBR holds no names of partitions", "Leave that goal out, or say table=gpt");
  }
  for (const unsigned number : w.gone) {
    const bool other = w.roles.count(number) + w.active.count(number) + w.names.count(number) +
                           w.volumes.count(number) + w.types.count(number) + w.sizes.count(number) +
                           w.fronts.count(number) + w.labels.count(number) +
                           w.letters.count(number) >
                       0;
    if (other)
      wrong(fmt::format("p{} is to be gone, and another goal is about it", number),
            "Give one of them");
  }
  for (const auto& [number, front] : w.fronts) {
    const auto size = w.sizes.find(number);
    if (size != w.sizes.end() && size->second.kind != SizeWish::Kind::max)
      wrong(fmt::format("p{0}.front and p{0}.size both say how long p{0} becomes", number),
            fmt::format("Give one of them, or p{}.size=max", number));
  }
  std::set<char> letters;
  for (const auto& [number, letter] : w.letters) {
    if (!letters.insert(letter).second)
      wrong(fmt::format("two partitions are to have the letter {}", letter), "Give one of them");
  }
  unsigned active = 0;
  for (const auto& [number, yes] : w.active) active += yes ? 1 : 0;
  if (active > 1) wrong("at most one partition can be active", "Give one of them");
}

// Goals about the disk as a whole. False: it's about something else.
bool sort_disk_goal(const Goal& goal, Wishes& out) {
  if (goal.subject == "table") {
    put(out.table, goal.state == "gpt" ? TableKind::gpt : TableKind::mbr, goal);
  } else if (goal.subject == "boot") {
    put(out.boot, goal.state == "uefi" ? StartWay::uefi : StartWay::legacy, goal);
  } else if (goal.subject == "esp") {
    const std::uint64_t bytes = *parse_bytes(goal.state);
    require_same(out.esp == 0 || out.esp == bytes, goal);
    out.esp = bytes;
  } else if (goal.subject == "names") {
    out.safe_names = true;
  } else if (goal.subject[0] == 'g') {
    put(out.gaps, static_cast<unsigned>(std::stoul(goal.subject.substr(1))), gap_state(goal.state),
        goal);
  } else {
    return false;
  }
  return true;
}

// What a volume can be asked for, on a partition or on the whole disk (0). False: it's about the
// partition.
bool sort_volume_goal(const Goal& goal, unsigned number, std::string_view about, Wishes& out) {
  if (const auto kind = about.empty() ? volume_state(goal.state) : std::nullopt) {
    put(out.volumes[number].kind, *kind, goal);
  } else if (about == "cluster") {
    std::uint32_t& bytes = out.volumes[number].cluster_bytes;
    const std::uint32_t wanted = cluster_state(goal.state);
    require_same(bytes == 0 || bytes == wanted, goal);
    bytes = wanted;
  } else if (about == "size") {
    put(out.sizes, number, size_state(goal.state), goal);
  } else if (about == "label") {
    put(out.labels, number, goal.state, goal);
  } else {
    return false;
  }
  return true;
}

void sort_partition_goal(const Goal& goal, unsigned number, std::string_view about,
                         const disk::DiskState& state, Wishes& out) {
  const Partition* p = state.table.layout.find(number);
  if (p == nullptr || p->role == Role::extended) {
    std::string text = fmt::format("there is no partition p{} that holds data", number);
    for (const Finding& f : state.table.findings) {
      if (f.severity != Severity::error) continue;
      text += ", as far as the table can be read: " + f.text;
      break;
    }
    throw Error(ErrorCode::words, text, {}, "See 'nuvrat survey' for the numbers");
  }
  if (sort_volume_goal(goal, number, about, out)) return;
  if (about.empty() && goal.state == "gone") {
    out.gone.insert(number);
  } else if (about.empty()) {
    put(out.roles, number, goal.state == "logical" ? Role::logical : Role::primary, goal);
  } else if (about == "letter") {
    const char c = goal.state[0];
    put(out.letters, number, c >= 'a' ? static_cast<char>(c - 32) : c, goal);
  } else if (about == "front") {
    put(out.fronts, number, size_state(goal.state), goal);
  } else if (about == "active") {
    put(out.active, number, goal.state == "yes", goal);
  } else if (about == "type") {
    put(out.types, number, matching_type(*p, state.find(number)->signature.kind), goal);
  } else {
    put(out.names, number, goal.state, goal);
  }
}

}  // namespace

Wishes sort_goals(const std::vector<Goal>& goals, const disk::DiskState& state) {
  Wishes out;
  for (const Goal& goal : goals) {
    if (sort_disk_goal(goal, out)) continue;
    const std::size_t dot = std::min(goal.subject.find('.'), goal.subject.size());
    const std::string_view subject = std::string_view(goal.subject).substr(0, dot);
    const std::string_view about =
        std::string_view(goal.subject).substr(std::min(dot + 1, goal.subject.size()));
    if (subject != "volume") {
      const auto number = static_cast<unsigned>(std::stoul(std::string(subject.substr(1))));
      sort_partition_goal(goal, number, about, state, out);
    } else if (state.bare_volume) {
      (void)sort_volume_goal(goal, 0, about, out);
    } else {
      throw Error(ErrorCode::words, "the disk is not one volume without a partition table", {},
                  "Name the partition: p1=ntfs");
    }
  }
  require_sense(out, state.table.layout);
  return out;
}

void follow_numbers(const std::vector<Renumbering>& next, std::vector<Renumbering>& numbers) {
  for (Renumbering& r : numbers) {
    const auto it = std::find_if(next.begin(), next.end(),
                                 [&r](const Renumbering& n) { return n.before == r.after; });
    if (it != next.end()) r.after = it->after;
  }
}

void apply_room(const Wishes& wishes, std::vector<Partition>& partitions) {
  std::erase_if(partitions, [&wishes](const Partition& p) {
    return p.role != Role::extended && wishes.gone.count(p.number) != 0;
  });
  for (Partition& p : partitions) {
    if (p.role == Role::extended) continue;
    if (const auto it = wishes.lengths.find(p.number); it != wishes.lengths.end())
      p.sectors = it->second;
    if (const auto it = wishes.starts.find(p.number); it != wishes.starts.end()) {
      p.sectors = p.range().end() - it->second;
      p.start = it->second;
    }
  }
}

void apply_small_wishes(const Wishes& wishes, Layout& layout) {
  apply_room(wishes, layout.partitions);
  for (const auto& [number, yes] : wishes.active) {
    for (Partition& p : layout.partitions) {
      if (p.number == number) {
        p.active = yes;
      } else if (yes) {
        p.active = false;
      }
    }
  }
  for (Partition& p : layout.partitions) {
    if (p.role == Role::gpt) {
      p.attributes =
          p.active ? p.attributes | gpt_legacy_bootable : p.attributes & ~gpt_legacy_bootable;
    }
    if (const auto it = wishes.types.find(p.number);
        it != wishes.types.end() && it->second.index() == p.type.index()) {
      p.type = it->second;
    }
    if (const auto it = wishes.names.find(p.number); it != wishes.names.end()) p.name = it->second;
  }
}

void add_obstacle(Assessment& out, std::string code, std::string text, std::string remedy,
                  std::uint64_t missing, unsigned partition) {
  out.obstacles.push_back(
      {std::move(code), std::move(text), std::move(remedy), missing, partition, {}});
}

}  // namespace nuvrat::plan
