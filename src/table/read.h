#pragma once
// The readers behind read_table: each fills its part of a TableReading.

#include <nuvrat/table.h>

#include "table/records.h"

namespace nuvrat::table {

/// Collects findings with the place filled in.
class FindingList {
 public:
  explicit FindingList(Findings& out) : out_(out) {}
  void add(Rule code, Severity severity, std::uint64_t sector, std::string text,
           bool repairable = false) {
    out_.push_back({std::move(code), severity, {.sector = sector}, std::move(text), repairable});
  }

 private:
  Findings& out_;
};

/// Partitions of an MBR and its EBR chain. `sector0` holds a valid signature.
void read_mbr(const Device& device, const MbrSector& sector0, TableReading& reading);

/// One copy of a GPT whose header, ranges and checksums are right. Only the first one's usable
/// sectors may go beyond the end of the device.
struct GptCopy {
  GptHeader header{};
  std::uint64_t lba = 0;
  SectorRange array;
  Bytes entries;  // number × size bytes
};

struct GptCopies {
  std::optional<GptCopy> primary;
  std::optional<GptCopy> backup;
  std::string primary_fault;  // why it isn't valid; empty when it is or when there is no signature
  std::string backup_fault;
  bool primary_given = true;  // the device gives what could be told of it
  bool backup_given = true;
  bool any_signature = false;
};
/// Looks for both copies; reads nothing else. `protected_last`: the last sector that the protective
/// MBR covers, 0 without one.
GptCopies find_gpt(const Device& device, std::uint64_t protected_last);
/// Whether the copy uses sectors that the device doesn't have.
bool disk_ends_early(const GptCopy& copy, const Device& device);
/// Turns what find_gpt found into layout and findings.
void read_gpt(const Device& device, const GptCopies& copies, TableReading& reading);

/// Overlaps and ranges, the same rules for both kinds of table.
void check_ranges(const Layout& layout, Findings& findings);

}  // namespace nuvrat::table
