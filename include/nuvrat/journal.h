#pragma once
// The undo journal: what every sector held before a rewrite wrote it, on another disk, flushed
// before the first of them is written. Its form is in docs/formats/undo-journal.md.
//
// A step is recorded as a whole before any of it is done. From the journal and the disk alone can
// be told whether the disk is what the rewrite left, and it can be put back byte for byte.

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/rewrite.h>

namespace NUVRAT_API nuvrat {

enum class Undo {
  full,  ///< keep the contents of free sectors too: the way back is exact to the byte
  live,  ///< of the first step keep only what live structures held; of later ones all
};

/// Sectors of a journal that are not as a rewrite knows them.
struct StrangeSectors {
  /// They hold neither what was there before nor anything the rewrite wrote (of a finished one: not
  /// what it left). Something else has written them, or the cut tore them.
  SectorSet foreign;
  SectorSet unreadable;
  [[nodiscard]] bool empty() const { return foreign.empty() && unreadable.empty(); }
};

/// Where a disk stands in a job, told by its sectors alone. What the journal notes of steps is of
/// one disk; the one at hand may be a copy made earlier, or one that was put back under another
/// name.
struct JournalPosition {
  /// Steps that are done on this disk. The next one may have been begun.
  unsigned steps = 0;
  /// Every sector holds what it held before the first step (of those whose contents were kept).
  bool before = false;
  /// Every sector holds what the last recorded step left.
  bool after = false;
  /// Sectors that don't fit: the position is the one with the fewest.
  SectorSet strange;
};

/// The contents of a journal besides sectors.
struct JournalAbout {
  std::string_view plan{};  ///< what is to be done, so that the journal alone is enough
  ByteView blobs{};         ///< large values that the plan names
  SectorSet witnesses{};    ///< the job doesn't write them, and its disk can be told by them
};

class Journal {
 public:
  /// A new journal, on the medium when this returns. Throws Error (file).
  static Journal create(const std::string& path, const Device& device, Undo undo,
                        const JournalAbout& about = {});
  [[nodiscard]] const std::string& plan() const;
  /// Errors as open.
  [[nodiscard]] Bytes blobs() const;
  /// Reads an existing one. A tail that a power cut tore off while it was being appended is left
  /// out; anything else that isn't as it was written is an Error (file).
  static Journal open(const std::string& path);
  Journal(Journal&&) noexcept;
  Journal& operator=(Journal&&) noexcept;
  ~Journal();

  [[nodiscard]] Undo undo() const;

  // Forwards: steps count from 0, in the order in which they are done.

  /// Keeps what the sectors of a step hold now, and checksums of what `rehearsed` says they will
  /// hold; returns when all of it is on the medium. Of a later step than the first all counts as
  /// live: it may write what was live then and isn't any more, and the way back needs that.
  void record_step(unsigned step, const Device& device, const Inspection& inspection,
                   const Device& rehearsed);
  /// The most bytes that record_step can add to the journal's file.
  [[nodiscard]] static std::uint64_t room_for(unsigned step, const Device& device,
                                              const Inspection& inspection, Undo undo);
  void mark_done(unsigned step);

  /// Steps whose record is whole: these may have been written.
  [[nodiscard]] unsigned steps_recorded() const;
  [[nodiscard]] unsigned steps_done() const;
  [[nodiscard]] bool reverting() const;
  [[nodiscard]] bool reverted() const;
  /// All that the recorded steps write, in order; a sector that a step writes twice is there once.
  [[nodiscard]] std::vector<WrittenRange> writes() const;

  // Back.

  /// Reads every sector of the journal.
  [[nodiscard]] JournalPosition position(const Device& device) const;
  [[nodiscard]] StrangeSectors strange_sectors(const Device& device, bool finished) const;
  /// Of a step that was cut off: the physical sector that was being written then, where the cut
  /// left in it nothing that anybody wrote. It is the only one of the journal's that can't be read
  /// or holds something strange, and that in each of its sectors (of 4096-byte sectors: in each 512
  /// bytes).
  [[nodiscard]] std::optional<SectorRange> torn_sector(const Device& device) const;
  /// True when the step's switch sector holds what it held before the step.
  [[nodiscard]] bool before_switch(unsigned step, const Device& device) const;
  /// The first sector that the step would leave otherwise than was recorded, on a disk that shows
  /// what it would leave now.
  [[nodiscard]] std::optional<std::uint64_t> differs_from(const Device& rehearsed,
                                                          unsigned step) const;
  /// Puts everything back: the last step first, in each step what was settled, then the switch,
  /// then what was prepared, a flush after each. May be cut off at any point and run again.
  /// A sector that holds the right bytes already isn't written. In the end every sector of every
  /// step is read from the medium and compared with what must be there.
  enum class Note {
    both,  ///< notes that the way leads back from here, and that it ended
    end,   ///< only the end: a cut leaves the job as one that may still be finished
    none,  ///< nothing: the way back is only played through
  };
  void put_back(Device& device, Progress& progress, Note note = Note::both);
  /// The same for one step, without a note: the disk is where the step began, which can then be
  /// done anew. Physical sectors that are torn or can't be read are written whole.
  void put_back_step(unsigned step, Device& device, Progress& progress);
  /// True when of the sectors that were or may have been written, and of the witnesses, more than
  /// half hold what the journal knows: this is its disk, or a copy of it.
  [[nodiscard]] bool recognises(const Device& device) const;
  /// Bytes that put_back will write.
  [[nodiscard]] std::uint64_t bytes_to_put_back() const;

 private:
  struct Record;
  struct Seen;
  [[nodiscard]] SectorSet misfits(const std::vector<Seen>& seen, unsigned steps,
                                  bool under_way) const;
  void require_put_back(const Device& device) const;
  [[nodiscard]] bool differs_all_over(const Record& r, std::uint64_t lba,
                                      const Device& device) const;
  [[nodiscard]] SectorSet broken_sectors(unsigned step, const Device& device,
                                         const std::optional<SectorRange>& torn) const;
  void put_back_whole(unsigned step, const SectorSet& broken, Device& device) const;
  class Impl;
  explicit Journal(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

}  // namespace nuvrat
