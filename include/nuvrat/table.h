#pragma once
// Reading and writing partition tables: MBR with its chain of EBRs, GPT with both copies.

#include <nuvrat/bytes.h>
#include <nuvrat/device.h>
#include <nuvrat/finding.h>
#include <nuvrat/layout.h>

namespace NUVRAT_API nuvrat {

/// A table as it is on a disk.
struct TableReading {
  Layout layout;
  Findings findings;
  /// Sectors of the structures that are in force: LBA 0, the EBRs, the valid GPT.
  SectorSet owned;
  /// Second copies of something in `owned`.
  SectorSet copies;
  Bytes sector0;                   ///< LBA 0 as it is
  bool boot_code = false;          ///< LBA 0 has code in bytes 0 to 439
  bool settle_unfinished = false;  ///< LBA 0 carries the mark of a rewrite whose settle was cut off
  /// All of them, and every partition as a whole.
  [[nodiscard]] SectorSet all_owned() const;
};

/// Reads whatever table there is. What is wrong with it comes as findings; throws Error only when
/// the device can't be read.
[[nodiscard]] TableReading read_table(const Device& device);

/// LBA 0 of a disk with a GPT, boot code zero: one entry over all of it, as far as 32 bits count.
[[nodiscard]] Bytes build_protective_mbr(std::uint64_t disk_sectors, std::uint32_t sector_size);
/// The bytes of a GPT for a layout of kind gpt.
struct GptBytes {
  Bytes protective_mbr;  ///< one sector for LBA 0, boot code zero
  SectorWrite array;     ///< entries for the first copy
  SectorWrite header;    ///< LBA 1
  SectorWrite backup_array;
  SectorWrite backup_header;
};
/// Throws Error (refused) when the layout breaks a rule of the format. `array_lba` is where the
/// first copy's entries lie: LBA 2 unless a change inside a GPT is under way.
[[nodiscard]] GptBytes build_gpt(const Layout& layout, std::uint64_t array_lba = 2);

/// LBA 0 of an MBR for a layout of kind mbr. `before` is LBA 0 as it is, empty on a new disk: boot
/// code and whatever else is not an entry stay, and so do the CHS fields of entries that go on
/// naming the same sectors. Throws Error (refused) as above.
[[nodiscard]] Bytes build_mbr(const Layout& layout, ByteView before = {});
/// One EBR for each logical, chained in the order of their numbers; an empty one for a container
/// without any. Throws Error (refused) as above, and where the first EBR isn't the container's
/// first sector.
[[nodiscard]] std::vector<SectorWrite> build_ebrs(const Layout& layout);

/// Writes a whole table on a disk that has none yet, boot code zero. For new disks; a disk with
/// data is rewritten by a job.
void write_new_table(Device& device, const Layout& layout);

/// Mark in bytes 444 and 445 of LBA 0 while a settle is unfinished. Both standards leave these
/// bytes unused; a settled disk has zeros there.
void set_settle_mark(ByteSpan sector0, bool unfinished);

}  // namespace nuvrat
