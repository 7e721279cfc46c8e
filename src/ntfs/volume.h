#pragma once
// An NTFS volume as records and attributes, read from its device.

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/function_ref.h>

#include "ntfs/boot.h"
#include "ntfs/records.h"
#include "ntfs/runs.h"

namespace nuvrat::ntfs {

/// Read and written at a time.
constexpr std::uint64_t piece_bytes = 1u << 20;

/// An attribute with everything that its segments say, whatever records hold them.
struct AttributeView {
  std::uint32_t type = 0;
  std::u16string name;
  std::uint16_t flags = 0;
  bool resident = true;
  Bytes value;  ///< resident
  Runs runs;    ///< non-resident, in VCN order
  std::uint64_t allocated = 0, size = 0, initialised = 0;
  std::uint8_t compression_unit = 0;  ///< as a power of two of clusters; 0: none
  /// What sparse and packed ones take in clusters, where it is said.
  std::optional<std::uint64_t> occupied{};
  std::uint64_t record = 0;  ///< where it begins: the base, or an extension

  [[nodiscard]] std::uint64_t bytes() const { return resident ? value.size() : size; }
};

class Volume {
 public:
  /// Throws Error (damaged) when the boot sector or $MFT's own record make no sense. `device` must
  /// outlive it.
  explicit Volume(const Device& device);

  [[nodiscard]] const Geometry& geometry() const { return geometry_; }
  [[nodiscard]] const Device& device() const { return device_; }
  /// Device sectors in a cluster.
  [[nodiscard]] std::uint64_t cluster_sectors() const {
    return geometry_.cluster_bytes() / device_.sector_size();
  }
  [[nodiscard]] std::uint64_t records() const { return records_; }
  [[nodiscard]] const RunMap& mft() const { return mft_; }
  /// Of the first records those that are damaged, by number: what is read in their place are their
  /// copies in $MFTMirr.
  [[nodiscard]] const std::map<std::uint64_t, Bytes>& stand_ins() const { return stand_ins_; }
  static constexpr std::uint64_t mirrored = 4;  ///< records, right after each other in both places

  enum class RecordState { sound, torn, not_a_record, unreadable };
  /// A record with its update sequence resolved.
  RecordState read_record(std::uint64_t number, Bytes& out) const;
  /// Every record in order, large pieces at a time; where the device has nothing but a hole there
  /// are none. One that the device doesn't give comes empty, as `unreadable`.
  void each_record(
      const std::function<void(std::uint64_t number, ByteSpan record, RecordState)>& visit) const;

  /// The attributes of a base record, those in its extensions too. Throws Error (damaged) with the
  /// record's number.
  [[nodiscard]] std::vector<AttributeView> attributes(std::uint64_t number, ByteView record) const;
  /// The same of a record that is not at hand, and must be sound.
  [[nodiscard]] std::vector<AttributeView> attributes(std::uint64_t number) const;
  /// The same; none where the record isn't one, is damaged, or isn't given.
  [[nodiscard]] std::vector<AttributeView> attributes_if_readable(std::uint64_t number) const;

  /// Contents of an attribute that isn't compressed, zeros after its end and in holes.
  void read(const AttributeView& attribute, std::uint64_t offset, ByteSpan out) const;
  void read(const RunMap& runs, std::uint64_t offset, ByteSpan out) const;
  /// All of it, unless it is longer than `limit`: then Error (damaged).
  [[nodiscard]] Bytes read_all(const AttributeView& attribute, std::uint64_t limit) const;
  /// All of it in pieces, unpacked where it is compressed. Throws Error (damaged).
  void stream(const AttributeView& attribute, ByteSink sink) const;
  /// The same for what the system keeps, which can't be longer than the volume: Error (damaged)
  /// where it says that it is, rather than zeros for ever.
  void stream_own(const AttributeView& attribute, ByteSink sink) const;

 private:
  struct Segment;
  void look_for_stand_in(std::uint64_t number);
  [[nodiscard]] std::uint64_t records_in_hole(std::uint64_t first) const;
  void read_bytes(std::uint64_t offset, ByteSpan out) const;
  [[nodiscard]] bool try_read(const RunMap& runs, std::uint64_t offset, ByteSpan out) const;
  /// Sizes and runs of an attribute that isn't resident, whose header ends there. Throws Error.
  void read_runs(ByteView body, std::size_t header_end, Segment& s) const;
  [[nodiscard]] std::vector<Segment> segments(std::uint64_t number, ByteView record) const;
  void read_extensions(std::uint64_t number, const AttributeView& list,
                       std::vector<Segment>& all) const;
  void stream_compressed(const AttributeView& attribute, ByteSink sink) const;
  [[nodiscard]] RecordState unprotect_record(ByteSpan record) const;

  const Device& device_;
  Geometry geometry_;
  RunMap mft_;
  std::uint64_t records_ = 0;
  std::map<std::uint64_t, Bytes> stand_ins_;
};

/// Clusters that the header of a runlist says it has: what its holes can't exceed.
[[nodiscard]] std::uint64_t clusters_named(const NonResidentHeader& header,
                                           const Geometry& geometry);

/// The attribute of this type and name, or null.
[[nodiscard]] const AttributeView* find_attribute(const std::vector<AttributeView>& all,
                                                  std::uint32_t type,
                                                  std::u16string_view name = {});

/// UTF-16 out of little-endian bytes.
[[nodiscard]] std::u16string utf16_from(ByteView bytes);

}  // namespace nuvrat::ntfs
