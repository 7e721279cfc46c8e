#include "table/read.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "base/record.h"
#include "device/given.h"

namespace nuvrat {
namespace {

// LBA 0 of a bare volume ends in 55 AA too; code or text is where a table would have entries. An
// extended entry that leads nowhere is a damaged one: no text has its type under such a flag.
bool entries_plausible(const table::MbrSector& mbr) {
  return std::all_of(
      mbr.partition_record.begin(), mbr.partition_record.end(), [](const table::MbrEntry& e) {
        if (e.boot_indicator != 0x00 && e.boot_indicator != 0x80) return false;
        return e.os_type == 0 || is_extended_type(e.os_type) || (e.start() > 0 && e.sectors() > 0);
      });
}

// The last sector that it covers; 0: there is none.
std::uint64_t protected_last(const table::MbrSector& mbr) {
  const auto it = std::find_if(mbr.partition_record.begin(), mbr.partition_record.end(),
                               [](const table::MbrEntry& e) { return e.os_type == 0xEE; });
  if (mbr.signature.value() != table::mbr_signature || it == mbr.partition_record.end()) return 0;
  return std::max<std::uint64_t>(it->start() + it->sectors(), 2) - 1;
}

bool has_other_entry(const table::MbrSector& mbr) {
  return std::any_of(mbr.partition_record.begin(), mbr.partition_record.end(),
                     [](const table::MbrEntry& e) { return e.os_type != 0xEE && e.os_type != 0; });
}

void check_protective(const table::MbrSector& mbr, std::uint64_t sectors,
                      table::FindingList& findings) {
  const auto it = std::find_if(mbr.partition_record.begin(), mbr.partition_record.end(),
                               [](const table::MbrEntry& e) { return e.os_type == 0xEE; });
  const std::uint64_t wanted = std::min<std::uint64_t>(sectors - 1, 0xFFFFFFFF);
  if (has_other_entry(mbr)) {
    findings.add(Rule::gpt_hybrid, Severity::error, 0,
                 "the MBR names partitions beside the protective one: a hybrid table, in which the "
                 "two tables can say different things; a person must decide which one counts");
  } else if (it->start() != 1 || it->sectors() != wanted || it->boot_indicator != 0) {
    findings.add(
        Rule::gpt_protective_entry, Severity::warning, 0,
        fmt::format("the protective entry says start {}, {} sectors{}; it should say start "
                    "1, {} sectors, not active",
                    it->start(), it->sectors(), it->boot_indicator == 0 ? "" : ", active", wanted),
        true);
  }
}

void note_unread(const Device& device, const table::GptCopies& gpt, bool given0,
                 TableReading& reading) {
  table::FindingList findings(reading.findings);
  const bool any = !reading.layout.partitions.empty();
  if (!given0)
    findings.add(
        Rule::table_unreadable, Severity::error, 0,
        fmt::format("sector 0 can't be read: {}", any ? "what an MBR says there isn't known"
                                                      : "whether there is a table isn't known"));
  // Of a GPT that is there its own findings say so.
  if (reading.layout.kind == TableKind::gpt) return;
  for (const auto& [given, lba] : {std::pair{gpt.primary_given, std::uint64_t{1}},
                                   std::pair{gpt.backup_given, device.sectors() - 1}}) {
    if (!given)
      findings.add(
          Rule::table_unreadable, Severity::warning, lba,
          fmt::format("sector {} can't be read: whether a GPT header is there isn't known", lba));
  }
}

// `given0`: sector 0 could be read.
void dispatch(const Device& device, const table::MbrSector& mbr, bool given0,
              TableReading& reading) {
  table::FindingList findings(reading.findings);
  const bool signed0 = mbr.signature.value() == table::mbr_signature;
  const std::uint64_t covered = protected_last(mbr);
  const bool protective = covered != 0;
  const table::GptCopies gpt = table::find_gpt(device, covered);
  const bool valid_gpt = gpt.primary || gpt.backup;
  if (protective && valid_gpt) {
    if (!gpt.primary || !table::disk_ends_early(*gpt.primary, device))
      check_protective(mbr, device.sectors(), findings);
    table::read_gpt(device, gpt, reading);
  } else if (protective) {
    findings.add(
        Rule::gpt_none_valid, Severity::error, 1,
        fmt::format("the MBR protects a GPT, but no copy of one is valid: {}; {}",
                    gpt.primary_fault.empty() ? "none at sector 1" : gpt.primary_fault,
                    gpt.backup_fault.empty() ? "none in the last sector" : gpt.backup_fault));
  } else if (valid_gpt && !(signed0 && reading.settle_unfinished) &&
             (!signed0 || !has_other_entry(mbr) || !entries_plausible(mbr))) {
    if (given0)
      findings.add(Rule::gpt_protective_missing, Severity::warning, 0,
                   "there is a valid GPT, but LBA 0 has no protective entry", true);
    table::read_gpt(device, gpt, reading);
  } else if (signed0 && entries_plausible(mbr)) {
    if (gpt.any_signature && !reading.settle_unfinished) {
      findings.add(
          Rule::mbr_gpt_remains, Severity::error, gpt.primary ? 1 : device.sectors() - 1,
          "the MBR names partitions, and there is a GPT header on the disk as well; a person "
          "must decide which one counts");
    }
    table::read_mbr(device, mbr, reading);
  }
  note_unread(device, gpt, given0, reading);
}

}  // namespace

void table::check_ranges(const Layout& layout, Findings& out) {
  table::FindingList findings(out);
  const bool gpt = layout.kind == TableKind::gpt;
  const std::vector<Partition> parts = layout.data_partitions();
  const Partition* widest = nullptr;  // of those seen so far, the one that reaches furthest
  for (const Partition& p : parts) {
    const std::uint64_t end = checked_add(p.start, p.sectors, "a partition's end");
    if (end > layout.disk_sectors) {
      findings.add(
          gpt ? Rule::gpt_outside : Rule::mbr_outside, Severity::error, p.start,
          fmt::format("partition {} ends {} beyond the end of the disk, whose last sector is {}",
                      p.number, plural(end - layout.disk_sectors, "sector", "sectors"),
                      layout.disk_sectors - 1));
    }
    if (widest != nullptr && widest->range().end() > p.start) {
      findings.add(gpt ? Rule::gpt_overlap : Rule::mbr_overlap, Severity::error, p.start,
                   fmt::format("partitions {} and {} overlap from sector {} to {}", widest->number,
                               p.number, p.start, std::min(widest->range().end(), end) - 1));
    }
    if (widest == nullptr || end > widest->range().end()) widest = &p;
  }
}

SectorSet TableReading::all_owned() const {
  SectorSet out = owned;
  out.add(copies);
  for (const Partition& p : layout.data_partitions()) out.add(p.range());
  return out;
}

TableReading read_table(const Device& device) {
  TableReading reading;
  reading.layout.sector_size = device.sector_size();
  reading.layout.disk_sectors = device.sectors();
  const auto sector0 = device::read_if_given(device, 0);
  reading.sector0 = sector0.value_or(Bytes(device.sector_size()));
  const auto mbr = base::load<table::MbrSector>(reading.sector0);
  reading.boot_code = !all_zero(mbr.boot_code);
  reading.settle_unfinished =
      mbr.signature.value() == table::mbr_signature && mbr.unknown.value() == table::settle_mark;
  dispatch(device, mbr, sector0.has_value(), reading);
  reading.layout.give_ids();
  if (reading.settle_unfinished) {
    table::FindingList(reading.findings)
        .add(Rule::table_settle_unfinished, Severity::warning, 0,
             "a rewrite of this disk was cut off after its switch: the change is in effect, "
             "remains of the old table are still to be wiped; 'nuvrat resume' does that",
             true);
  }
  reading.owned.add({0, 1});
  return reading;
}

void set_settle_mark(ByteSpan sector0, bool unfinished) {
  auto mbr = base::load<table::MbrSector>(sector0);
  mbr.unknown = unfinished ? table::settle_mark : std::uint16_t{0};
  base::store(mbr, sector0);
}

}  // namespace nuvrat
