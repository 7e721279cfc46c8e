#pragma once
// What the parts of the NTFS check gather and share.

#include <vector>

#include <nuvrat/error.h>
#include <nuvrat/text.h>
#include <nuvrat/volume.h>

#include "base/budget.h"
#include "base/finding_log.h"
#include "base/sparse_array.h"
#include "ntfs/upcase.h"
#include "ntfs/volume.h"

namespace nuvrat::ntfs {

struct CheckState {
  explicit CheckState(const Device& device)
      : volume(device),
        index_bytes(volume.geometry().clusters() * volume.geometry().cluster_bytes()) {}

  Volume volume;
  base::FindingLog log;
  UpCase upcase;

  struct Record {
    bool in_use = false;
    bool directory = false;
    bool extension = false;
    std::uint16_t sequence = 0;
  };
  base::SparseArray<Record> records;

  // What there is one of for each file is kept small. Records are told by the low half of their
  // numbers: $MFT would have to be larger than 4 TiB to make that ambiguous.

  /// Clusters that a runlist owns.
  struct Claim {
    std::uint64_t lcn, count;
    std::uint32_t record, type;
  };
  std::vector<Claim> claims;

  /// A FILE_NAME of a record, or its copy in a folder's index, by hash: what must be equal on both
  /// sides, the size that it says, and that of the contents.
  struct Name {
    std::uint64_t hash;
    std::uint16_t said, real;
    std::uint32_t record;
    bool operator<(const Name& o) const { return hash < o.hash; }
  };
  std::vector<Name> names_of_records;
  std::vector<Name> names_of_folders;

  std::vector<std::pair<std::uint32_t, std::uint32_t>> security_ids;  ///< record, id
  struct Folder {
    std::uint64_t record, parent;  ///< the parent that its name says
    std::uint32_t name_units;
  };
  std::vector<Folder> folders;  ///< by record
  base::Budget index_bytes;     ///< of all folders
  VolumeTotals totals;

  void finding(Rule code, Severity severity, std::optional<std::uint64_t> record, std::string text,
               std::optional<std::uint64_t> cluster = {}) {
    Place place;
    place.record = record;
    if (cluster) place.sector = *cluster * volume.cluster_sectors();
    log.add(code, severity, std::move(place), std::move(text));
  }
  void error(Rule code, std::optional<std::uint64_t> record, std::string text,
             std::optional<std::uint64_t> cluster = {}) {
    finding(code, Severity::error, record, std::move(text), cluster);
  }

  /// Attributes of a record that the system needs; empty, and said, when they can't be had.
  [[nodiscard]] std::vector<AttributeView> system_file(std::uint64_t number) {
    try {
      return volume.attributes(number);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged) throw;
    }
    return {};
  }
};

/// `real_size`: of the contents, where they are known.
[[nodiscard]] CheckState::Name hash_name(std::uint64_t record_reference, ByteView value,
                                         std::optional<std::uint64_t> real_size = {});

void check_boot(CheckState& state);
void check_start(CheckState& state);
void check_records(CheckState& state);
void check_folders(CheckState& state);
void check_clusters(CheckState& state);
void check_system_files(CheckState& state);
void check_security(CheckState& state);

}  // namespace nuvrat::ntfs
