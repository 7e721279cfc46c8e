#pragma once
// Attributes and records in the making.

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/bytes.h>
#include <nuvrat/time.h>

#include "ntfs/records.h"
#include "ntfs/runs.h"

namespace nuvrat::ntfs {

struct Attribute {
  std::uint32_t type = 0;
  std::u16string name;
  bool resident = true;
  bool indexed = false;  ///< resident: a FILE_NAME, which an index holds a copy of
  Bytes value;           ///< resident
  Runs runs;             ///< non-resident
  std::uint64_t allocated = 0, size = 0, initialised = 0;
  std::uint16_t flags = 0;
  std::uint8_t compression_unit = 0;
  std::optional<std::uint64_t> occupied{};  ///< of sparse or packed ones: bytes in clusters

  /// Bytes that it takes in a record, when it is in one piece.
  [[nodiscard]] std::size_t bytes() const;
};

/// What a record says besides its attributes.
struct RecordHead {
  std::uint64_t number = 0;
  std::uint16_t sequence = 1;
  std::uint16_t flags = record_in_use;
  std::uint16_t links = 0;
  std::uint64_t lsn = 0;
};

/// The reference of a file's extension record, by their order from 0.
using ExtensionReferences = std::function<std::uint64_t(std::size_t)>;
/// Numbers from `first` on, each for the first time.
[[nodiscard]] ExtensionReferences new_extensions(std::uint64_t first);

/// A file's records: the base one first, then its extensions, without the update sequence.
struct PackedFile {
  std::vector<Bytes> records;
  Bytes list;  ///< contents of the ATTRIBUTE_LIST; empty when there is none
};

class RecordPacker {
 public:
  RecordPacker(std::uint32_t record_bytes, std::uint64_t cluster_bytes)
      : record_bytes_(record_bytes), cluster_bytes_(cluster_bytes) {}

  /// Room for attributes in a record.
  [[nodiscard]] std::size_t capacity() const;
  [[nodiscard]] bool fits(const std::vector<Attribute>& attributes) const;

  /// `attributes` are sorted by type and name. What doesn't fit into the base record goes into
  /// extensions, and the list of all of them into `list_runs`.
  [[nodiscard]] PackedFile pack(const RecordHead& head, const std::vector<Attribute>& attributes,
                                const Runs& list_runs, const ExtensionReferences& extensions) const;

  /// A record that is not in use.
  [[nodiscard]] Bytes unused(std::uint64_t number) const;
  /// Fills in the update sequence.
  static void seal(Bytes& record);

 private:
  friend class FilePacking;
  [[nodiscard]] std::size_t first_attribute() const;
  static void end_record(Bytes& record, std::size_t at, const RecordHead& head,
                         std::uint16_t next_instance);
  std::uint32_t record_bytes_;
  std::uint64_t cluster_bytes_;
};

/// Times and attribute bits that STANDARD_INFORMATION and FILE_NAME share.
struct FileStamp {
  Ticks created = 0, modified = 0, accessed = 0;
  std::uint32_t attributes = 0;
};

[[nodiscard]] Bytes standard_information(const FileStamp& stamp, std::uint32_t security_id);
/// Of contents, in bytes.
struct FileSizes {
  std::uint64_t allocated = 0, size = 0;
};
[[nodiscard]] Bytes file_name(std::uint64_t parent, const FileStamp& stamp, FileSizes sizes,
                              std::u16string_view name, std::uint8_t space);

[[nodiscard]] Attribute resident(std::uint32_t type, Bytes value, std::u16string name = {});
/// `size` bytes of contents in `runs`.
[[nodiscard]] Attribute non_resident(std::uint32_t type, const Runs& runs, std::uint64_t size,
                                     std::uint64_t cluster_bytes, std::u16string name = {});

}  // namespace nuvrat::ntfs
