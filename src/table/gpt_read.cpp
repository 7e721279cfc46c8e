#include <algorithm>
#include <limits>
#include <set>

#include <fmt/core.h>

#include <nuvrat/checksum.h>
#include <nuvrat/text.h>

#include "base/record.h"
#include "device/given.h"
#include "table/read.h"

namespace nuvrat::table {
namespace {

// 2 MiB of entries: 128 times what is customary. More is taken for damage.
constexpr std::uint64_t max_array_bytes = 2u << 20;

std::optional<GptCopy> read_copy(const Device& device, std::uint64_t lba, std::string& fault,
                                 bool& signature, bool& given) {
  const Bytes sector = device::read_if_given(device, lba).value_or(Bytes());
  given = !sector.empty();
  if (!given) {
    fault = fmt::format("sector {}, where a GPT header may be, can't be read", lba);
    return std::nullopt;
  }
  GptCopy copy;
  copy.lba = lba;
  copy.header = base::load<GptHeader>(sector);
  const GptHeader& h = copy.header;
  if (h.signature != gpt_signature) return std::nullopt;
  signature = true;
  const auto bad = [&](std::string why) {
    fault = fmt::format("the GPT header at sector {} is not valid: {}", lba, why);
    return std::nullopt;
  };
  const std::uint32_t size = h.header_size.value();
  if (size < sizeof(GptHeader) || size > device.sector_size()) {
    return bad(fmt::format("its size says {} bytes", size));
  }
  Bytes checked(sector.begin(), sector.begin() + size);
  std::fill(checked.begin() + 16, checked.begin() + 20, std::uint8_t{0});
  if (crc32(checked) != h.header_crc32.value()) return bad("its checksum is wrong");
  if (h.my_lba.value() != lba) {
    return bad(fmt::format("it says that it is at sector {}", h.my_lba.value()));
  }
  const std::uint64_t entry_size = h.size_of_partition_entry.value();
  const std::uint64_t count = h.number_of_partition_entries.value();
  if (entry_size < 128 || entry_size > 4096 || (entry_size & (entry_size - 1)) != 0 || count == 0 ||
      count * entry_size > max_array_bytes) {
    return bad(fmt::format("it names {} entries of {} bytes", count, entry_size));
  }
  copy.array = {h.partition_entry_lba.value(),
                div_up<std::uint64_t>(count * entry_size, device.sector_size())};
  if (copy.array.first < 2 || copy.array.first >= device.sectors() ||
      copy.array.count > device.sectors() - copy.array.first) {
    return bad(fmt::format("its entries would begin at sector {}", copy.array.first));
  }
  // The first copy of a disk that ends early says true where its partitions are.
  const bool beyond = h.last_usable_lba.value() >= device.sectors() && lba != 1;
  if (h.first_usable_lba.value() > h.last_usable_lba.value() || beyond) {
    return bad(fmt::format("its usable sectors are {} to {} on a disk of {}",
                           h.first_usable_lba.value(), h.last_usable_lba.value(),
                           device.sectors()));
  }
  auto entries = device::read_if_given(device, copy.array.first, copy.array.count);
  given = entries.has_value();
  if (!given) return bad(fmt::format("its entries at {} can't be read", copy.array.text()));
  copy.entries = std::move(*entries);
  copy.entries.resize(count * entry_size);
  if (crc32(copy.entries) != h.partition_entry_array_crc32.value()) {
    return bad("the checksum of its entries is wrong");
  }
  return copy;
}

std::string name_of_entry(const GptEntry& entry) {
  std::u16string name;
  for (const auto& unit : entry.partition_name) {
    if (unit.value() == 0) break;
    name.push_back(static_cast<char16_t>(unit.value()));
  }
  return to_utf8(name);
}

void read_entries(const GptCopy& copy, Layout& layout) {
  const std::size_t entry_size = copy.header.size_of_partition_entry.value();
  for (std::size_t i = 0; i * entry_size < copy.entries.size(); ++i) {
    const auto entry = base::load<GptEntry>(copy.entries, i * entry_size);
    const Guid type{std::span<const std::uint8_t, 16>(entry.partition_type_guid)};
    if (type.is_zero()) continue;
    Partition p;
    p.number = static_cast<unsigned>(i + 1);
    p.role = Role::gpt;
    p.start = entry.starting_lba.value();
    // The very last number of 64 bits would have no end; it leaves every disk either way.
    const std::uint64_t last =
        std::min(entry.ending_lba.value(), std::numeric_limits<std::uint64_t>::max() - 1);
    p.sectors = last >= p.start ? last - p.start + 1 : 0;
    p.type = type;
    p.unique_id = Guid{std::span<const std::uint8_t, 16>(entry.unique_partition_guid)};
    p.attributes = entry.attributes.value();
    p.active = (p.attributes & gpt_legacy_bootable) != 0;
    p.name = name_of_entry(entry);
    layout.partitions.push_back(std::move(p));
  }
}

void check_entries(const Layout& layout, FindingList& findings, std::uint64_t array_lba) {
  std::set<Guid> seen;
  for (const Partition& p : layout.partitions) {
    if (p.sectors == 0) {
      findings.add(Rule::gpt_entry_empty, Severity::error, array_lba,
                   fmt::format("entry {} ends before it begins", p.number));
    } else if (p.start < layout.first_usable || p.range().last() > layout.last_usable) {
      findings.add(Rule::gpt_entry_outside, Severity::error, p.start,
                   fmt::format("partition {} ({}) is outside the usable sectors {} to {}", p.number,
                               p.range().text(), layout.first_usable, layout.last_usable));
    }
    if (!seen.insert(p.unique_id).second) {
      findings.add(Rule::gpt_id_repeated, Severity::warning, array_lba,
                   fmt::format("partition {} has the same unique id as another: {}", p.number,
                               p.unique_id.text()));
    }
  }
}

void compare_copies(const GptCopy& a, const GptCopy& b, FindingList& findings) {
  const GptHeader& x = a.header;
  const GptHeader& y = b.header;
  std::string what;
  if (x.disk_guid != y.disk_guid) what = "the disk's GUID";
  if (a.entries != b.entries) what = "the entries";
  if (x.first_usable_lba.value() != y.first_usable_lba.value() ||
      x.last_usable_lba.value() != y.last_usable_lba.value()) {
    what = "the usable sectors";
  }
  if (what.empty()) return;
  // The one moment when copies differ in good order: the live array is aside, where the other copy
  // has sectors for partitions.
  const bool aside = a.array.first != 2 && a.array.first >= y.first_usable_lba.value() &&
                     a.array.last() <= y.last_usable_lba.value();
  if (aside) {
    findings.add(Rule::gpt_change_unfinished, Severity::warning, 1,
                 "a change inside the GPT was cut off: the new table counts, its entries are in a "
                 "second array and "
                 "the backup is still the old one; 'nuvrat resume' puts them in their places",
                 true);
  } else {
    findings.add(
        Rule::gpt_copies_differ, Severity::error, b.lba,
        fmt::format("both copies of the GPT are valid and differ in {}; a person must decide "
                    "which one counts",
                    what));
  }
}

// A header's sector is zero after the header.
void check_rest(const Device& device, const GptCopy& copy, FindingList& findings) {
  const auto sector = device::read_if_given(device, copy.lba);
  if (sector && !all_zero(ByteView(*sector).subspan(copy.header.header_size.value()))) {
    findings.add(Rule::gpt_header_rest, Severity::note, copy.lba,
                 fmt::format("sector {} is not zero after the GPT header", copy.lba));
  }
}

// The second copy, beside a first one that is good.
void read_backup(const Device& device, const GptCopies& copies, TableReading& reading,
                 FindingList& findings) {
  const GptCopy& live = *copies.primary;
  const std::uint64_t alternate = live.header.alternate_lba.value();
  if (!copies.backup) {
    std::string why = copies.backup_fault;
    if (why.empty() && alternate >= device.sectors()) {
      why = fmt::format("the backup GPT would be at sector {}, beyond the end of the disk",
                        alternate);
    } else if (why.empty()) {
      why = "there is no backup GPT in the disk's last sector";
    }
    findings.add(Rule::gpt_backup_damaged, Severity::warning, device.sectors() - 1, why,
                 copies.backup_given);
    return;
  }
  reading.copies.add({copies.backup->lba, 1});
  reading.copies.add(copies.backup->array);
  const std::uint64_t back = copies.backup->header.alternate_lba.value();
  if (alternate != copies.backup->lba || back != live.lba) {
    const bool first = alternate != copies.backup->lba;
    findings.add(Rule::gpt_alternate, Severity::warning, first ? live.lba : copies.backup->lba,
                 fmt::format("the {} header of the GPT says that the other copy is at sector {}; "
                             "it is at {}",
                             first ? "primary" : "backup", first ? alternate : back,
                             first ? copies.backup->lba : live.lba));
  }
  compare_copies(live, *copies.backup, findings);
  if (copies.backup->lba != device.sectors() - 1) {
    findings.add(
        Rule::gpt_backup_not_last, Severity::warning, copies.backup->lba,
        fmt::format("the backup GPT is at sector {}, not in the disk's last sector {}: the "
                    "disk has grown",
                    copies.backup->lba, device.sectors() - 1),
        true);
  }
}

}  // namespace

bool disk_ends_early(const GptCopy& copy, const Device& device) {
  return copy.header.last_usable_lba.value() >= device.sectors();
}

GptCopies find_gpt(const Device& device, std::uint64_t protected_last) {
  GptCopies out;
  if (device.sectors() < 3) return out;
  out.primary = read_copy(device, 1, out.primary_fault, out.any_signature, out.primary_given);
  out.backup = read_copy(device, device.sectors() - 1, out.backup_fault, out.any_signature,
                         out.backup_given);
  if (!out.backup) {
    // A disk that has grown since.
    const std::uint64_t named =
        out.primary ? out.primary->header.alternate_lba.value() : protected_last;
    if (named > 1 && named < device.sectors() - 1) {
      std::string fault;
      bool given = true;
      out.backup = read_copy(device, named, fault, out.any_signature, given);
      if (out.backup_fault.empty()) out.backup_fault = fault;
    }
  }
  return out;
}

void read_gpt(const Device& device, const GptCopies& copies, TableReading& reading) {
  FindingList findings(reading.findings);
  const bool first = copies.primary.has_value();
  const GptCopy& live = first ? *copies.primary : *copies.backup;
  Layout& layout = reading.layout;
  layout.kind = TableKind::gpt;
  layout.disk_guid = Guid{std::span<const std::uint8_t, 16>(live.header.disk_guid)};
  layout.first_usable = live.header.first_usable_lba.value();
  layout.last_usable = live.header.last_usable_lba.value();
  read_entries(live, layout);
  layout.sort();
  check_entries(layout, findings, live.array.first);
  check_ranges(layout, reading.findings);
  reading.owned.add({live.lba, 1});
  reading.owned.add(live.array);
  check_rest(device, live, findings);

  if (!first) {
    findings.add(
        Rule::gpt_primary_damaged, Severity::error, 1,
        fmt::format("{}; the backup at {} is valid",
                    copies.primary_fault.empty() ? "there is no GPT header at sector 1"
                                                 : copies.primary_fault,
                    live.lba == device.sectors() - 1
                        ? std::string("the end")
                        : fmt::format("sector {}, where the protective MBR ends,", live.lba)),
        copies.primary_given);
    return;
  }
  const std::uint64_t alternate = live.header.alternate_lba.value();
  if (disk_ends_early(live, device)) {
    findings.add(Rule::gpt_cut_off, Severity::error, device.sectors() - 1,
                 fmt::format("the disk ends early: its GPT uses the sectors up to {} and has its "
                             "backup at {}, but the last sector is {}; the image was cut off, or "
                             "what it is attached to shows less of the disk than there is",
                             layout.last_usable, alternate, device.sectors() - 1));
    return;
  }
  read_backup(device, copies, reading, findings);
}

}  // namespace nuvrat::table
