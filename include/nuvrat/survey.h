#pragma once
// A whole disk looked at: its table, its partitions, what is on each.

#include <optional>
#include <string>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/expected_change.h>
#include <nuvrat/finding.h>
#include <nuvrat/manifest.h>
#include <nuvrat/systems.h>
#include <nuvrat/table.h>
#include <nuvrat/volume.h>

namespace NUVRAT_API nuvrat {

struct SurveyedPartition {
  Partition partition;  ///< number 0 and the whole disk for a volume without a table
  VolumeSignature signature;
  std::optional<VolumeInfo> volume;  ///< where Nuvrat reads this kind
  Findings findings{};
  VolumeTotals totals{};  ///< of a deep survey
  double seconds = 0;     ///< that the deep survey of it took

  /// It has an error that a person must decide about: `check --repair` leaves it alone as a whole.
  [[nodiscard]] bool beyond_mending() const;
};

struct Survey {
  DeviceIdentity device;
  std::uint64_t sectors = 0;
  std::uint32_t sector_size = 512;
  TableReading table;
  std::vector<SurveyedPartition>
      partitions;            ///< in disk order, an extended one before its logicals
  bool bare_volume = false;  ///< no table: the disk is one volume
  Systems systems;           ///< what can be started from it
  std::string tag;           ///< four characters out of the disk's identity and its table

  /// Leaves only these partitions and what was found on them. Throws Error (words) for a number
  /// that isn't there.
  void keep(const std::vector<unsigned>& numbers);
  [[nodiscard]] const SurveyedPartition* find(unsigned number) const;
  /// Parts that were not checked: partitions of kinds that Nuvrat doesn't read, or a disk on which
  /// it knows nothing. In words for people; empty when all of it was looked at.
  [[nodiscard]] std::vector<std::string> not_looked_at() const;
  /// The table's findings and those of every partition.
  [[nodiscard]] Findings all_findings() const;
};

/// `deep` reads every folder of every volume too, and so finds what is wrong there.
[[nodiscard]] Survey survey_disk(const Device& device, const ReadOptions& options,
                                 bool deep = false);

/// Room for new partitions: what no partition and no part of the table lies on, from a whole MiB
/// on, at least 4 MiB of it, in disk order; g1 is the first. The end of a disk with an MBR is left
/// free, so that it can have a GPT one day. None without a table.
[[nodiscard]] std::vector<SectorRange> gaps_of(const TableReading& table);

/// The tag alone.
[[nodiscard]] std::string disk_tag(const Device& device, const TableReading& table);
/// Whether a person said this tag: in small letters, too, and with blanks around it.
[[nodiscard]] bool says_tag(std::string_view said, std::string_view tag);

struct ManifestOptions {
  std::vector<unsigned> numbers{};     ///< of partitions; none: all of them
  std::string_view doing = "reading";  ///< for progress
  Proof proof = Proof::contents;
};
/// Records every file of every volume, or of the partitions named. What can't be read is named in
/// the manifest; so is the part of an image that is cut off. Throws Error: words (no such
/// partition), cancelled, device_read where no table can be read.
[[nodiscard]] Manifest take_manifest(const Device& device, const ReadOptions& read,
                                     Progress& progress, const ManifestOptions& options = {});

/// A disk compared with what was recorded of it.
struct Verification {
  Manifest now;
  Comparison comparison;
};
/// Takes the manifest of the same partitions, wherever their numbers are now, and compares; of a
/// manifest by places what was hashed then is hashed now. Access times are left out: a system
/// changes them by reading. Of `numbers` (as they are now) only those partitions; none: all that
/// were recorded. Errors as take_manifest.
[[nodiscard]] Verification verify_disk(const Manifest& recorded, const Device& device,
                                       const ReadOptions& read, Progress& progress,
                                       const std::vector<unsigned>& numbers = {});

}  // namespace nuvrat
