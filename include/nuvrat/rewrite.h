#pragma once
// Prepare, switch, settle: how a structure is replaced by another with one sector's write.
//
// A Rewrite says what to write; the Engine decides whether it may. Before the device is touched,
// the rewrite is played through on an overlay of it. There the guard holds every prepared sector
// against those that live structures own before the switch, and every settled one against those
// that they own after it. The real run may then write nothing that the inspection didn't see.

#include <array>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/function_ref.h>
#include <nuvrat/progress.h>
#include <nuvrat/sectors.h>

namespace NUVRAT_API nuvrat {

/// Takes what a rewrite writes.
class SectorSink {
 public:
  SectorSink() = default;
  SectorSink(const SectorSink&) = delete;
  SectorSink& operator=(const SectorSink&) = delete;
  virtual ~SectorSink() = default;
  /// Whole sectors from `lba` on.
  virtual void write(std::uint64_t lba, ByteView data) = 0;
  /// The purpose of the writes from here on, in a few words for people: "backup of the GPT".
  virtual void purpose(std::string_view /*what*/) {}
};

enum class Phase { prepare, switch_over, settle };
[[nodiscard]] const char* name_of(Phase phase);

/// Sectors of a live structure that a phase writes all the same, and why that harms nothing.
struct Exemption {
  SectorSet sectors;
  std::string reason;
};
using Exemptions = std::vector<Exemption>;

class Rewrite {
 public:
  Rewrite() = default;
  Rewrite(const Rewrite&) = delete;
  Rewrite& operator=(const Rewrite&) = delete;
  virtual ~Rewrite() = default;

  /// "MBR to GPT"
  [[nodiscard]] virtual std::string name() const = 0;
  /// Writes the new structure into sectors without an owner. Must write the same each time it is
  /// called on the same disk.
  virtual void prepare(SectorSink& sink) = 0;
  /// The one sector that makes it count.
  [[nodiscard]] virtual SectorWrite switch_sector() const = 0;
  /// That sector in words: "LBA 0, the protective MBR".
  [[nodiscard]] virtual std::string switch_purpose() const = 0;
  /// Sectors that this phase may write although a live structure owns them: second copies of
  /// structures whose first is good, entries that are right by themselves. Each with its reason,
  /// and no more.
  [[nodiscard]] virtual Exemptions exemptions(Phase /*phase*/) const { return {}; }
  /// Tidies up after the switch. Running it again changes nothing.
  virtual void settle(SectorSink& sink) = 0;
};

struct WrittenRange {
  Phase phase = Phase::prepare;
  SectorRange range;
  std::string what{};  ///< what for, in a few words
  unsigned step = 0;   ///< of the job, from 0
  bool operator==(const WrittenRange&) const = default;
};

/// Contents that a sector has on the way, between two writes of one rewrite.
struct SectorVersion {
  std::uint64_t lba = 0;
  std::uint32_t crc = 0;  ///< CRC-32 of the sector
};

/// All that a rewrite will write, known before the device is touched. Ranges are in the order of
/// writing.
struct Inspection {
  std::vector<WrittenRange> writes;
  std::vector<SectorVersion> versions;  ///< of sectors that are written more than once
  SectorSet live;  ///< prepared ones that a live structure owned: written over all the same
  /// By phase, a hash of each write in its order: of its place, and of the whole physical sectors
  /// as it leaves them. Nothing else is written to the device.
  std::array<std::vector<std::uint64_t>, 3> hashes{};
  [[nodiscard]] SectorSet sectors(Phase phase) const;
  [[nodiscard]] SectorSet all_sectors() const;
  /// Sectors that share a physical sector of the device with these: they are written along,
  /// unchanged.
  [[nodiscard]] SectorSet neighbours(const Device& device) const;
};

/// Tells which sectors the live structures of a disk own, contents of files included.
using OwnedSectors = FunctionRef<SectorSet(const Device&)>;

class Engine {
 public:
  /// Both must outlive the engine.
  Engine(Device& device, Progress& progress) : device_(device), progress_(progress) {}

  /// Plays the rewrite through on `overlay`, which lies over the device and afterwards reads as the
  /// disk will. Throws Error (guard) when a prepared sector is owned before the switch, or a
  /// settled one after it.
  [[nodiscard]] static Inspection inspect(Rewrite& rewrite, Overlay& overlay, OwnedSectors owned);

  /// The same for the settle alone, on an overlay of a disk whose switch is done.
  [[nodiscard]] static Inspection inspect_settle(Rewrite& rewrite, Overlay& overlay,
                                                 OwnedSectors owned);

  /// Does it. Each write is compared with its hash from the inspection before the device gets it; a
  /// difference is an Error (device_read): a sector was read wrongly, then or now. Every phase ends
  /// with a flush and is read back from the medium; what differs there is an Error (device_write
  /// before the switch, cut_off after it). Cancelling before the switch throws Error (cancelled);
  /// after it the settle is finished first.
  void run(Rewrite& rewrite, const Inspection& inspection);

  /// For a rewrite whose switch was made, by whoever was cut off then: the switch once more, since
  /// what is read of it may be in no more than a cache, then the settle.
  void finish_again(Rewrite& rewrite, const Inspection& inspection);

  /// False when something that was read back may have come from the system's memory.
  [[nodiscard]] bool read_from_medium() const { return from_medium_; }

 private:
  void switch_over(Rewrite& rewrite, const Inspection& inspection);
  void finish(Rewrite& rewrite, const Inspection& inspection);

  Device& device_;
  Progress& progress_;
  bool from_medium_ = true;
};

}  // namespace nuvrat
