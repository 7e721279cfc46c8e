#include <algorithm>
#include <chrono>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/survey.h>

#include "base/ascii.h"
#include "base/budget.h"
#include "base/memory.h"
#include "boot/systems.h"
#include "device/given.h"
#include "disk/cut_window.h"
#include "disk/lost_start.h"
#include "disk/members.h"
#include "table/no_partition.h"
#include "volume/kinds.h"

namespace nuvrat {
using namespace disk;
namespace {

// A volume was made smaller, or its partition larger: the room after it belongs to nothing.
void note_room_behind(const Device& window, const VolumeInfo& volume, const Partition& p,
                      Findings& out) {
  const std::uint64_t least = (1u << 20) / window.sector_size();  // less is what aligning leaves
  if (volume.sectors >= window.sectors() || window.sectors() - volume.sectors < least) return;
  out.push_back(
      {Rule::volume_shorter,
       Severity::note,
       {.subject = part_name(p.number), .sector = p.start + volume.sectors},
       fmt::format("the volume ends {} before its {}: {} sectors after it are not used",
                   format_bytes((window.sectors() - volume.sectors) * window.sector_size()),
                   p.number == 0 ? "disk" : "partition", window.sectors() - volume.sectors),
       false});
}

// Only programs that legacy firmware starts go by it.
void note_wrong_start(const Device& window, VolumeKind kind, const Partition& p, Findings& out) {
  if (p.number == 0 || p.role == Role::gpt || volume::row_of(kind) == nullptr) return;
  const auto hidden = volume::hidden_sectors_of(window.read(0));
  if (volume::hidden_sectors_fit(hidden, p)) return;
  out.push_back({Rule::volume_hidden_sectors,
                 p.active ? Severity::warning : Severity::note,
                 {.subject = part_name(p.number), .sector = p.start},
                 fmt::format("the boot sector says that the volume begins at sector {}, and its "
                             "partition begins at {}{}",
                             *hidden, p.start,
                             p.active ? ": a program that starts from it may read other sectors "
                                        "than its own"
                                      : ""),
                 p.active});
}

// The first boot sector can't be read, and a second one can.
std::string words_of_unread_start(const Device& volume, const ReadOptions& options) {
  if (device::read_if_given(volume, 0)) return "";
  const std::string words = second_boot_words(volume, options);
  return words.empty() ? "" : words + ": 'nuvrat files' and 'nuvrat fetch' read the volume with it";
}

void look_at_volume(const Device& device, const ReadOptions& options, bool deep,
                    SurveyedPartition& out) {
  const Partition& p = out.partition;
  const auto place = [&p](Place at) {
    at.subject = part_name(p.number);
    if (at.sector) at.sector = p.start + *at.sector;
    return at;
  };
  const auto take = [&](const Findings& findings) {
    for (Finding f : findings) {
      f.place = place(f.place);
      out.findings.push_back(std::move(f));
    }
  };
  std::unique_ptr<Device> there;
  const auto without_start = [&](const std::string& trouble) {
    const auto lost = look_without_start(*there, options, deep, trouble, p.start);
    if (!lost) return false;
    take(lost->findings);
    out.totals = lost->totals;
    return true;
  };
  try {
    there = window_onto(device, p.range());
    const Device& window = *there;
    if (p.number != 0 && is_raid_member(window))
      out.findings.push_back({Rule::volume_raid_member,
                              Severity::note,
                              {.subject = part_name(p.number)},
                              "the partition is a member of a RAID: what is on it isn't its own",
                              false});
    out.signature = recognise_volume(window);
    if (p.number != 0 && !type_matches(p, out.signature.kind)) {
      out.findings.push_back(
          {Rule::table_type_mismatch,
           Severity::note,
           {.subject = part_name(p.number)},
           fmt::format("the type says {}, the volume is {}; p{}.type=match puts that right",
                       describe(p.type), out.signature.description, p.number),
           false});
    }
    const auto reader = open_volume(window, options);
    if (!reader) {
      if (out.signature.kind != VolumeKind::unknown || without_start("")) return;
      if (const std::string trace = volume::trace_of_volume(window); !trace.empty())
        out.findings.push_back(
            {Rule::volume_boot_damaged,
             Severity::error,
             {.subject = part_name(p.number), .sector = p.start},
             fmt::format("the first sector speaks of a volume ({}), and its fields can't be read "
                         "as one: what is on it isn't known, and it isn't empty",
                         trace),
             false});
      return;
    }
    out.volume = reader->info();
    note_room_behind(window, *out.volume, p, out.findings);
    note_wrong_start(window, out.signature.kind, p, out.findings);
    // The reader says what it met; the check says all of it.
    const auto begun = std::chrono::steady_clock::now();
    const Findings findings =
        deep ? check_volume(window, options, &out.totals) : reader->findings();
    out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
    take(findings);
  } catch (const Error& e) {
    // A Window counts from the partition's start only in what the formats report; the device itself
    // names absolute sectors.
    const bool io = e.code() == ErrorCode::device_read;
    if (!io && e.code() != ErrorCode::damaged) throw;
    if (!io && there && without_start(e.message())) return;
    Place at = io ? e.place() : place(e.place());
    at.subject = part_name(p.number);
    std::string text = e.message() + (e.remedy().empty() ? "" : ". " + e.remedy());
    if (const std::string other = io && there ? words_of_unread_start(*there, options) : "";
        !other.empty())
      text += "; " + other;
    out.findings.push_back({io ? Rule::volume_unreadable : Rule::volume_damaged, Severity::error,
                            at, std::move(text), false});
  }
}

// A disk with 4096-byte sectors opened as one of 512 shows partitions in the wrong places.
void check_sector_size(const Device& device, Survey& survey) {
  if (device.identity().kind != DeviceKind::image || device.sector_size() != 512) return;
  constexpr std::string_view mark = "EFI PART";
  if (survey.table.layout.kind != TableKind::gpt && device.sectors() > 16) {
    const auto there = device::read_if_given(device, 8);
    if (there && std::equal(mark.begin(), mark.end(), there->begin())) {
      survey.table.findings.push_back(
          {Rule::disk_sector_size,
           Severity::error,
           {.sector = 8},
           "the header of a GPT is at byte 4096; open the image with --sector-size 4096",
           false});
      return;
    }
  }
  for (const SurveyedPartition& p : survey.partitions) {
    const std::uint64_t there = p.partition.start * 8;
    if (p.volume || p.partition.role == Role::extended || there + 8 > device.sectors()) continue;
    const Bytes sector = device::read_if_given(device, there, 8).value_or(Bytes(512));
    const bool boot =
        sector[11] == 0x00 && sector[12] == 0x10 && sector[510] == 0x55 && sector[511] == 0xAA;
    if (!boot) continue;
    survey.table.findings.push_back(
        {Rule::disk_sector_size,
         Severity::error,
         {.sector = there},
         fmt::format(
             "partition {} would begin right with sectors of 4096 bytes; open the image with "
             "--sector-size 4096",
             p.partition.number),
         false});
    return;
  }
}

// What is on such a disk isn't its own: no goal is in reach.
void note_managers(const Device& device, Survey& survey) {
  const auto note = [&survey](Rule code, const char* text) {
    survey.table.findings.push_back({code, Severity::note, {}, text, false});
  };
  if (is_raid_member(device))
    note(Rule::disk_raid_member, "the disk as a whole is a member of a RAID");
  if (std::any_of(survey.partitions.begin(), survey.partitions.end(),
                  [](const SurveyedPartition& s) {
                    return class_of(s.partition.type) == TypeClass::managed;
                  }))
    note(Rule::disk_managed,
         "the disk is managed by a layer that keeps a database of its own about where everything "
         "on it is");
}

// Two disks of one size without a table and a volume differ in nothing but what is on them.
std::string contents_words(const Device& device) {
  constexpr std::uint64_t places = 16, each = 8;
  Sha256 sha;
  for (std::uint64_t i = 0; i < places; ++i) {
    const std::uint64_t lba = i * (device.sectors() / places);
    const auto bytes = device::read_if_given(device, lba, std::min(each, device.sectors() - lba));
    if (bytes) sha.add(*bytes);
  }
  return "|" + sha.finish().hex();
}

std::string bare_volume_words(const Device& device, TableKind table) {
  try {
    const auto reader = open_volume(device, {});
    if (!reader) return table == TableKind::none ? contents_words(device) : "";
    return fmt::format("|{} {:x}", name_of(reader->info().kind), reader->info().serial_number);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
    return "|damaged";
  }
}

}  // namespace

bool SurveyedPartition::beyond_mending() const {
  return std::any_of(findings.begin(), findings.end(), [](const Finding& f) {
    return f.severity == Severity::error && !f.repairable;
  });
}

void Survey::keep(const std::vector<unsigned>& numbers) {
  for (const unsigned number : numbers) {
    if (find(number) == nullptr) throw table::no_partition(table.layout, number);
  }
  std::erase_if(partitions, [&numbers](const SurveyedPartition& p) {
    return std::find(numbers.begin(), numbers.end(), p.partition.number) == numbers.end();
  });
  table.findings.clear();
}

const SurveyedPartition* Survey::find(unsigned number) const {
  const auto it = std::find_if(partitions.begin(), partitions.end(),
                               [number](const auto& p) { return p.partition.number == number; });
  return it == partitions.end() ? nullptr : &*it;
}

std::vector<std::string> Survey::not_looked_at() const {
  std::vector<std::string> out;
  for (const SurveyedPartition& s : partitions) {
    const Partition& p = s.partition;
    const TypeClass kind = p.number == 0 ? TypeClass::data : class_of(p.type);
    if (s.volume || p.role == Role::extended || kind == TypeClass::reserved ||
        kind == TypeClass::bios_boot)
      continue;
    // With its second boot sector it was.
    const Finding* lost = find_code(s.findings, Rule::volume_boot_lost);
    if (lost != nullptr && lost->repairable) continue;
    const std::string what =
        s.signature.description.empty() ? "unknown contents" : s.signature.description;
    out.push_back(p.number == 0 ? "the volume: " + what : fmt::format("p{}: {}", p.number, what));
  }
  if (partitions.empty() && table.layout.kind == TableKind::none)
    out.emplace_back("the whole disk: it has no table, and no volume that Nuvrat knows");
  return out;
}

Findings Survey::all_findings() const {
  Findings out = table.findings;
  for (const SurveyedPartition& p : partitions) {
    out.insert(out.end(), p.findings.begin(), p.findings.end());
  }
  return out;
}

std::vector<SectorRange> gaps_of(const TableReading& table) {
  const Layout& layout = table.layout;
  if (layout.kind == TableKind::none) return {};
  const std::uint64_t mib = (1u << 20) / layout.sector_size;
  std::uint64_t first = 1;
  std::uint64_t end = gpt_usable_end(layout.disk_sectors, layout.sector_size);
  if (layout.kind == TableKind::gpt) {
    first = layout.usable().first;
    end = layout.usable().end();
  } else {
    end = std::min(end, std::uint64_t{1} << 32);
  }
  if (first >= end) return {};
  SectorSet used = table.owned;
  used.add(table.copies);
  for (const Partition& p : layout.data_partitions()) used.add(p.range());
  std::vector<SectorRange> out;
  for (const SectorRange& r : used.gaps({first, end - first})) {
    const std::uint64_t from = div_up(r.first, mib) * mib;
    if (from < r.end() && r.end() - from >= 4 * mib) out.push_back({from, r.end() - from});
  }
  return out;
}

bool says_tag(std::string_view said, std::string_view tag) {
  constexpr std::string_view blanks = " \t\r\n";
  const std::size_t from = std::min(said.find_first_not_of(blanks), said.size());
  said.remove_prefix(from);
  said = said.substr(0, said.find_last_not_of(blanks) + 1);
  return !tag.empty() &&
         base::ascii_lower(std::string(said)) == base::ascii_lower(std::string(tag));
}

std::string disk_tag(const Device& device, const TableReading& table) {
  std::string text = fmt::format("{}|{}|{}|{}|{}|{}", device.identity().model,
                                 device.identity().serial, device.sectors(), device.sector_size(),
                                 name_of(table.layout.kind), table.layout.id_text());
  for (const Partition& p : table.layout.partitions) {
    text += fmt::format("|{} {} {} {} {}", p.number, name_of(p.role), p.start, p.sectors,
                        type_text(p.type));
  }
  // Without a table the volume identifies the disk: its kind and serial, all that two sticks of
  // one size differ in.
  if (table.layout.kind != TableKind::gpt && table.layout.partitions.empty()) {
    text += bare_volume_words(device, table.layout.kind);
  }
  const Digest digest =
      Sha256::of({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
  // No vowels, so that a tag is never a word, and no pairs that look alike.
  constexpr std::string_view letters = "346789BCDFGHJKMNPQRTVWXY";
  std::string tag;
  for (std::size_t i = 0; i < 4; ++i) tag.push_back(letters[digest.bytes[i] % letters.size()]);
  return tag;
}

Survey survey_disk(const Device& device, const ReadOptions& options, bool deep) {
  Survey out;
  out.device = device.identity();
  out.sectors = device.sectors();
  out.sector_size = device.sector_size();
  out.table = read_table(device);
  out.tag = disk_tag(device, out.table);
  for (const Partition& p : out.table.layout.partitions) out.partitions.push_back({p, {}, {}, {}});
  if (is_bare_volume(device, out.table)) {
    out.bare_volume = true;
    out.table.layout.kind = TableKind::none;
    Partition whole;
    whole.sectors = device.sectors();
    out.partitions.push_back({whole, {}, {}, {}});
  }
  base::Budget covered(device.sectors());
  for (SurveyedPartition& p : out.partitions) {
    if (p.partition.role == Role::extended || p.partition.sectors == 0) continue;
    if (covered.take(there_of(device, p.partition.range()))) {
      look_at_volume(device, options, deep, p);
    } else {
      p.findings.push_back({Rule::table_overlaps,
                            Severity::error,
                            {.subject = part_name(p.partition.number)},
                            "the partitions cover the disk so many times that this one is not "
                            "looked into",
                            false});
    }
  }
  check_sector_size(device, out);
  note_managers(device, out);
  if (const std::string who = device.disturbance(); !who.empty())
    out.table.findings.push_back({Rule::disk_disturbed,
                                  Severity::warning,
                                  {.subject = device.identity().path},
                                  who + ": what was read first may not be there any more",
                                  false});
  std::vector<Partition> sound;
  for (const SurveyedPartition& p : out.partitions) {
    if (p.volume && !has_errors(p.findings) && p.partition.range().end() <= device.sectors())
      sound.push_back(p.partition);
  }
  if (!out.bare_volume) out.systems = boot::find_systems(device, out.table, sound, options);
  if (deep) base::give_back_memory();  // what comes next needs as much as the check did
  return out;
}

}  // namespace nuvrat
