#pragma once
// What an edit is made of, each a value made from the ones before it.

#include <map>
#include <set>

#include <nuvrat/sectors.h>

#include "ntfs/attribute.h"
#include "ntfs/cluster_map.h"
#include "ntfs/edit.h"
#include "ntfs/index.h"
#include "ntfs/raw_record.h"
#include "ntfs/volume.h"

namespace nuvrat::ntfs {

/// Records of $MFT by whether they are in use then; of those alone that change.
using RecordBits = std::map<std::uint64_t, bool>;

/// A part of $MFT that is never in two runs: a record, or a cluster of several.
struct RecordUnits {
  std::uint64_t clusters = 1;  ///< in one
  std::uint64_t records = 1;
  std::uint64_t count = 0;  ///< all
};

/// The volume, and what it is to become.
struct EditVolume {
  EditVolume(const Device& from, EditRequest asked);

  const Device& device;
  EditRequest request;
  Volume volume;
  std::uint64_t cluster_bytes, record_bytes, boot_clusters;
  RecordPacker packer;
  RecordUnits units;
  std::uint64_t front;
  std::uint64_t clusters;     ///< afterwards
  Geometry widest;            ///< as large as the volume is, before or after
  SectorSet vacate{}, avoid;  ///< clusters

  [[nodiscard]] const Geometry& geometry() const { return volume.geometry(); }
  [[nodiscard]] bool resized() const { return clusters != geometry().clusters(); }
  /// What the old volume ends with, as the new one counts.
  [[nodiscard]] std::uint64_t old_end() const { return front + geometry().clusters(); }
  /// Runs of the old volume as the new one counts, and the other way round.
  [[nodiscard]] Runs counted_anew(Runs runs) const;
  [[nodiscard]] Runs as_before(Runs runs) const;
  /// A record that must be there, and sound.
  [[nodiscard]] Bytes sound_record(std::uint64_t number) const;
};

/// An attribute whose contents change with every edit.
struct SystemStream {
  Runs runs{};
  std::uint64_t size = 0;
  bool resident = false;
};
struct SystemStreams {
  SystemStream mft{}, mft_bitmap{}, mirror{}, bitmap{};
  Bytes record_use{};  ///< $MFT's bitmap
};
[[nodiscard]] SystemStreams find_system_streams(const EditVolume& volume);

/// Where records may be taken.
struct FreeRecords {
  std::uint64_t first = 0, end = 0;
};
/// The reference that a free record has by its next use; none where none is free. `taken`: not
/// these.
[[nodiscard]] std::optional<std::uint64_t> free_record(const EditVolume& volume,
                                                       const SystemStreams& streams,
                                                       const RecordBits& taken, FreeRecords range);

/// A record whose file gets new contents, or whose folder a new index, or that is new.
struct Put {
  bool is_new = false;
  bool folder = false;
  bool changed = false;            ///< of a folder: not only on the way
  RecordHead head{};               ///< of a new one
  std::vector<Attribute> first{};  ///< of a new one: what comes before its contents
  std::uint32_t security = 0;      ///< its number in $Secure
  std::size_t file = 0;            ///< of a file: which one
  /// Of a file that gets another size: the folder whose index says so, too.
  std::optional<std::uint64_t> sized_in{};
  std::vector<IndexItem> names{};  ///< of a folder, in the order of its index
};
/// Which records the files need.
struct PutRecords {
  std::map<std::uint64_t, Put> records{};
  RecordBits bits{};
  bool too_few = false;  ///< none was free for all of them
};
[[nodiscard]] PutRecords find_put_records(const EditVolume& volume, const SystemStreams& streams);
/// Whether the attribute's contents are among those that change.
[[nodiscard]] bool is_put(const PutRecords& puts, std::uint64_t base, std::uint32_t type,
                          std::u16string_view name);

/// What is in the way, and what belongs to whom.
struct EditScan {
  SectorSet owned{};  ///< clusters
  Runs in_the_way{};
  std::map<std::uint64_t, Runs> early_in_the_way{};  ///< of records that can't grow, in their order
  std::set<std::uint64_t> owners{};                  ///< records with runs in the way
  std::set<std::uint64_t> systems{};        ///< records that hold parts of the system's streams
  std::set<std::uint64_t> of_mft_bitmap{};  ///< the same of $MFT's bitmap
  std::optional<std::uint64_t> fixed{};     ///< a cluster in the way that can't move
  std::multimap<std::uint64_t, std::uint64_t> extensions{};  ///< by base record
  Runs boot{};  ///< of $Boot, in either volume by its own count
};
[[nodiscard]] EditScan scan(const EditVolume& volume, const PutRecords& puts);

/// Neighbouring clusters of an attribute that are written elsewhere, by their place in it.
struct Shadow {
  std::uint64_t vcn = 0;
  std::uint64_t count = 0;
  Runs to{};
};
using Shadows = std::vector<Shadow>;

/// Where the contents of a Put lie.
struct PutPlace {
  Runs runs{};
  Bytes blocks{};  ///< of a folder
  Bytes root{};    ///< the same
};

/// The place of everything.
struct EditLayout {
  ClusterMap map{};
  std::vector<ClusterMove> contents{};
  Shadows of_mft{}, of_bitmap{}, of_mft_bitmap{};
  Run mirror{};
  Runs bitmap{};                          ///< of another length
  std::set<std::uint64_t> changed{};      ///< records with other runs
  std::map<std::uint64_t, Bytes> made{};  ///< records made anew, without update sequence
  RecordBits record_bits{};
  std::vector<std::pair<Runs, Bytes>> lists{};  ///< contents of attribute lists
  std::map<std::uint64_t, PutPlace> puts{};     ///< by record
  SectorSet taken{}, given{};                   ///< clusters that become used, free
  std::uint64_t mft_lcn = 0;
  std::uint64_t used = 0, free = 0, moved = 0;  ///< clusters
};

struct EditParts {
  explicit EditParts(EditVolume v) : volume(std::move(v)) {}

  EditVolume volume;
  SystemStreams streams{};
  PutRecords puts{};
  EditScan scan{};
  EditLayout layout{};
};

/// The record with the runs that it has then; none where they don't fit.
[[nodiscard]] std::optional<Bytes> patched(const EditVolume& volume, const ClusterMap& map,
                                           std::uint64_t number, ByteView record);

void write_edit(const EditParts& parts, const EditOutput& out);

}  // namespace nuvrat::ntfs
