#pragma once
// The records of an undo journal, indexed: forwards appends them, backwards reads them.

#include <map>
#include <optional>

#include <nuvrat/journal.h>

#include "rewrite/journal_file.h"

namespace nuvrat::rewrite {

// What becomes a record of its own.
struct Piece {
  std::optional<Phase> phase;  // none: neighbours, which stay as they are
  SectorRange range;
  std::string_view what;
  bool keep;  // what was there before
};

}  // namespace nuvrat::rewrite

namespace nuvrat {

// One record: before and after of at most max_record_sectors neighbours.
struct Journal::Record {
  unsigned step;
  Phase phase;
  rewrite::Kept kept;
  bool neighbour;  // written along, unchanged
  SectorRange range;
  std::uint64_t offset;  // in the journal
  unsigned purpose;      // index of its text
};

// Sectors of one or several records by what they hold.
struct Journal::Seen {
  SectorSet before;      // what was there before the step
  SectorSet after;       // what the step leaves
  SectorSet on_the_way;  // something that the step writes in between
  SectorSet not_kept;    // any of these, where what was there before isn't kept
  SectorSet unreadable;
};

class Journal::Impl {
 public:
  Impl(rewrite::JournalFile file, std::uint32_t sector_size, Undo undo);

  void index(const rewrite::RecordHeader& header, std::uint64_t offset);
  void append(rewrite::RecordHeader header, ByteView payload);
  void mark(rewrite::RecordKind kind, unsigned step);
  void record_piece(unsigned step, const rewrite::Piece& piece, const Device& device,
                    const Device& rehearsed);
  void say_purpose(std::string_view what);
  /// Reads the range once more, from the medium. Throws Error (device_read) where it differs.
  static void require_same_again(const Device& device, SectorRange range, const Bytes& before);

  void require_disk(const Device& device) const;
  [[nodiscard]] std::uint32_t sector_crc(ByteView bytes, std::uint64_t index) const;
  /// Before-contents of a record; empty when they were not kept.
  [[nodiscard]] Bytes before_of(const Record& r) const;
  /// The first sector of a record that isn't what the record says that the step leaves.
  [[nodiscard]] std::optional<std::uint64_t> differs(const Record& r, ByteView after) const;
  /// Reads what it can; the sectors that the device doesn't give are added to `unreadable`.
  [[nodiscard]] Bytes read_now(const Device& device, SectorRange range,
                               SectorSet& unreadable) const;
  /// Which sectors of `parts` of a record hold something that the rewrite knows, as far as they can
  /// be read.
  struct Judgement {
    SectorSet known;
    StrangeSectors strange;
    void add(const Judgement& other);
  };
  [[nodiscard]] Judgement judge(const Record& r, const SectorSet& parts, const Device& device,
                                bool finished) const;
  /// Adds those of a record.
  void see(const Record& r, const Device& device, Seen& seen) const;

  rewrite::JournalFile file_;
  std::uint32_t sector_size_;
  Undo undo_;
  std::vector<Record> records_;
  std::vector<Record> pending_;
  std::multimap<std::uint64_t, std::uint32_t> versions_;
  std::multimap<std::uint64_t, std::uint32_t> pending_versions_;
  std::map<std::uint64_t, std::uint32_t> witnesses_;  // CRC-32 by sector
  std::vector<std::string> purposes_{""};
  std::string plan_;
  std::vector<std::uint64_t> blobs_;  // offsets of their records
  unsigned recorded_ = 0;
  unsigned done_ = 0;
  bool reverting_ = false;
  bool reverted_ = false;
};

}  // namespace nuvrat
