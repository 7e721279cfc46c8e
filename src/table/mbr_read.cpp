#include <set>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>

#include "base/record.h"
#include "device/given.h"
#include "table/read.h"

namespace nuvrat::table {
namespace {

// Several times what any system shows; the visited set catches loops before that.
constexpr std::size_t max_links = 1024;

class MbrReader {
 public:
  MbrReader(const Device& device, TableReading& reading)
      : device_(device), reading_(reading), findings_(reading.findings) {}

  void read(const MbrSector& mbr) {
    Layout& layout = reading_.layout;
    layout.kind = TableKind::mbr;
    layout.disk_signature = mbr.unique_mbr_signature.value();
    for (unsigned slot = 0; slot < 4; ++slot) read_slot(mbr.partition_record[slot], slot + 1);
    const std::vector<Partition> primaries = layout.partitions;
    bool followed = false;
    for (const Partition& p : primaries) {
      if (p.role != Role::extended) continue;
      if (followed) {
        findings_.add(
            Rule::mbr_two_extended, Severity::error, 0,
            fmt::format("entry {} is a second extended partition; only one is allowed", p.number));
      }
      followed = true;
      follow_chain(p);
    }
    check_primaries_against_extended();
    layout.sort();
    check_ranges(layout, reading_.findings);
  }

 private:
  void read_slot(const MbrEntry& entry, unsigned number) {
    if (entry.boot_indicator == 0x80) {
      if (active_seen_) {
        findings_.add(Rule::mbr_two_active, Severity::warning, 0,
                      "more than one partition is active");
      }
      active_seen_ = true;
    }
    if (entry.os_type == 0) {
      if (entry.sectors() != 0) {
        findings_.add(
            Rule::mbr_type_zero, Severity::warning, 0,
            fmt::format("entry {} has a size of {} sectors but type 00: it counts as empty", number,
                        entry.sectors()));
      }
      return;
    }
    if (entry.start() == 0 || entry.sectors() == 0) {
      findings_.add(Rule::mbr_entry_odd, Severity::error, 0,
                    fmt::format("entry {} is an extended partition from sector {}, {} sectors "
                                "long: what logical partitions there were isn't known",
                                number, entry.start(), entry.sectors()));
      return;
    }
    Partition p;
    p.number = number;
    p.role = is_extended_type(entry.os_type) ? Role::extended : Role::primary;
    p.start = entry.start();
    p.sectors = entry.sectors();
    p.type = entry.os_type;
    p.active = entry.boot_indicator == 0x80;
    reading_.layout.partitions.push_back(p);
  }

  void follow_chain(const Partition& extended) {
    if (extended.range().end() > device_.sectors()) {
      findings_.add(
          Rule::ebr_container_outside, Severity::error, extended.start,
          fmt::format("the extended partition ends at sector {}, but the disk's last sector "
                      "is {}",
                      extended.range().end() - 1, device_.sectors() - 1));
    }
    std::set<std::uint64_t> visited;
    std::uint64_t lba = extended.start;
    while (true) {
      if (!visited.insert(lba).second) {
        findings_.add(Rule::ebr_loop, Severity::error, lba,
                      fmt::format("the chain of logical partitions comes back to sector {}", lba));
        return;
      }
      if (visited.size() > max_links) {
        findings_.add(Rule::ebr_too_many, Severity::error, lba,
                      fmt::format("the chain of logical partitions has more than {} links; it is "
                                  "followed to sector {}",
                                  max_links, lba));
        return;
      }
      if (lba >= device_.sectors()) {
        findings_.add(
            Rule::ebr_outside, Severity::error, lba,
            fmt::format("the chain of logical partitions leads to sector {}, beyond the end "
                        "of the disk",
                        lba));
        return;
      }
      const auto sector = device::read_if_given(device_, lba);
      if (!sector) {
        findings_.add(Rule::ebr_unreadable, Severity::error, lba,
                      fmt::format("the EBR at sector {} can't be read: what logical partitions "
                                  "there are from there on isn't known",
                                  lba));
        return;
      }
      const auto ebr = base::load<MbrSector>(*sector);
      if (ebr.signature.value() != mbr_signature) {
        findings_.add(
            Rule::ebr_no_signature, Severity::error, lba,
            fmt::format("sector {} should hold an EBR, but has no 55 AA at its end", lba));
        return;
      }
      reading_.owned.add({lba, 1});
      const std::optional<std::uint64_t> next = read_ebr(ebr, lba, extended);
      if (!next) return;
      lba = *next;
    }
  }

  // The next EBR, if this one names one that may be followed.
  std::optional<std::uint64_t> read_ebr(const MbrSector& ebr, std::uint64_t lba,
                                        const Partition& extended) {
    const MbrEntry* data = nullptr;
    const MbrEntry* link = nullptr;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry& entry = ebr.partition_record[i];
      if (entry.sectors() == 0 || entry.os_type == 0) continue;
      if (i >= 2) {
        check_extra(entry, i, lba, extended);
      } else if (is_extended_type(entry.os_type)) {
        if (link == nullptr) link = &entry;
      } else if (data == nullptr) {
        data = &entry;
      } else {
        findings_.add(Rule::ebr_two_partitions, Severity::error, lba,
                      "an EBR names two partitions; one is allowed");
      }
    }
    if (data != nullptr) add_logical(*data, lba, extended);
    if (link == nullptr) return std::nullopt;
    const std::uint64_t next = extended.start + link->start();
    if (extended.range().contains(next)) return next;
    // A chain that isn't followed to its end can't be mended: partitions would go with the rest.
    const bool followed = may_follow(next);
    findings_.add(Rule::ebr_link_outside, Severity::error, lba,
                  fmt::format("the EBR at sector {} leads to sector {}, outside the extended "
                              "partition ({}){}",
                              lba, next, extended.range().text(),
                              followed ? ""
                                       : "; what logical partitions there are from there on "
                                         "isn't known"),
                  followed);
    return followed ? std::optional(next) : std::nullopt;
  }

  // Outside the container an EBR is believed only when it looks like one.
  [[nodiscard]] bool may_follow(std::uint64_t lba) const {
    if (lba >= device_.sectors()) return false;
    const auto sector = device::read_if_given(device_, lba);
    if (!sector) return false;
    const auto ebr = base::load<MbrSector>(*sector);
    return ebr.signature.value() == mbr_signature && all_zero(ebr.boot_code) &&
           ebr.partition_record[2].os_type == 0 && ebr.partition_record[3].os_type == 0;
  }

  // Entries 3 and 4 mean nothing; some systems show a partition there all the same when it fits.
  void check_extra(const MbrEntry& entry, std::size_t index, std::uint64_t lba,
                   const Partition& extended) {
    const SectorRange range{lba + entry.start(), entry.sectors()};
    const bool shown = !is_extended_type(entry.os_type) && range.first >= extended.start &&
                       range.end() <= extended.range().end();
    findings_.add(
        Rule::ebr_extra_entry, shown ? Severity::error : Severity::warning, lba,
        fmt::format("entry {} of an EBR should be empty; it says {}{}", index + 1, range.text(),
                    shown ? ", which some systems take for a partition" : " and is ignored"));
  }

  void add_logical(const MbrEntry& entry, std::uint64_t lba, const Partition& extended) {
    Partition p;
    p.number = 5 + logicals_++;
    p.role = Role::logical;
    p.start = lba + entry.start();
    p.sectors = entry.sectors();
    p.type = entry.os_type;
    p.active = entry.boot_indicator == 0x80;
    p.table_sector = lba;
    if (p.start < extended.start || p.range().end() > extended.range().end()) {
      findings_.add(Rule::ebr_partition_outside, Severity::error, lba,
                    fmt::format("logical partition {} ({}) goes beyond the extended partition ({})",
                                p.number, p.range().text(), extended.range().text()),
                    p.range().end() <= device_.sectors());
    }
    if (entry.start() == 0) {
      findings_.add(Rule::ebr_on_itself, Severity::error, lba,
                    fmt::format("logical partition {} begins on its own EBR", p.number));
    }
    reading_.layout.partitions.push_back(p);
  }

  void check_primaries_against_extended() {
    const Layout& layout = reading_.layout;
    for (const Partition& p : layout.partitions) {
      if (p.role == Role::extended) continue;
      if (const auto hit = reading_.owned.first_overlap(p.range())) {
        findings_.add(Rule::mbr_over_table, Severity::error, hit->first,
                      fmt::format("partition {} covers an EBR at sector {}", p.number, hit->first));
      }
      const Partition* extended = layout.extended();
      if (p.role == Role::primary && extended != nullptr && p.range().overlaps(extended->range())) {
        findings_.add(Rule::mbr_overlap, Severity::error, p.start,
                      fmt::format("partition {} is inside the extended partition, which is {}",
                                  p.number, extended->range().text()));
      }
    }
  }

  const Device& device_;
  TableReading& reading_;
  FindingList findings_;
  unsigned logicals_ = 0;
  bool active_seen_ = false;
};

}  // namespace

void read_mbr(const Device& device, const MbrSector& sector0, TableReading& reading) {
  MbrReader(device, reading).read(sector0);
}

}  // namespace nuvrat::table
