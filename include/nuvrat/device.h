#pragma once
// Where sectors come from. A Device reads and writes whole sectors, checks every range before the
// system sees it, and says in an Error which sector failed.

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>

#include <nuvrat/bytes.h>
#include <nuvrat/sectors.h>

namespace NUVRAT_API nuvrat {

class Error;
namespace device {
class SectorStore;
}

enum class DeviceKind { image, block_device, network, memory };
/// "image", "block device", "network disk", "memory"
[[nodiscard]] const char* name_of(DeviceKind kind);

/// A device as the system knows it; empty where it knows nothing.
struct DeviceIdentity {
  std::string path;  ///< as it was opened; "memory" and the like for others
  DeviceKind kind = DeviceKind::memory;
  std::string model;
  std::string serial;
  bool read_only = false;  ///< a write blocker, a switch on the card
  std::string in_use{};    ///< who uses it, in words; of a device that was opened for reading
  /// Bytes that the medium writes in one piece, as it says itself or as was told; 0 unknown.
  std::uint32_t physical_sector_size = 0;
};

/// The sector that a medium writes in one piece. It may be longer than the one it is spoken to in:
/// a disk with sectors of 512 bytes on a medium of 4096 writes eight of them, or none.
struct PhysicalSector {
  std::uint32_t sectors = 1;  ///< how many logical ones it is long
  std::uint32_t first = 0;    ///< the LBA where the first whole one begins, less than `sectors`

  /// How far a sector is into its physical one; the one before the first whole one is a short one.
  [[nodiscard]] std::uint64_t into(std::uint64_t lba) const {
    return (lba + sectors - first) % sectors;
  }
  /// The same physical sectors, counted from `lba` on.
  [[nodiscard]] PhysicalSector seen_from(std::uint64_t lba) const {
    return {sectors, static_cast<std::uint32_t>((sectors - into(lba)) % sectors)};
  }
  /// Of a range, what shares no physical sector with anything outside it; may be empty.
  [[nodiscard]] SectorRange whole_inside(SectorRange range) const;
};

/// Used by one thread at a time, also for reading: a device may keep what it was given.
class Device {
 public:
  virtual ~Device() = default;
  Device(const Device&) = delete;
  Device& operator=(const Device&) = delete;

  [[nodiscard]] std::uint32_t sector_size() const { return sector_size_; }  ///< bytes, 512 to 4096
  [[nodiscard]] std::uint64_t sectors() const { return sectors_; }
  [[nodiscard]] std::uint64_t bytes() const { return sectors_ * sector_size_; }
  [[nodiscard]] const DeviceIdentity& identity() const { return identity_; }
  [[nodiscard]] const PhysicalSector& physical() const { return physical_; }
  /// Of the physical sector, in bytes; no less than sector_size().
  [[nodiscard]] std::uint32_t physical_sector_size() const {
    return identity_.physical_sector_size;
  }
  /// The physical sectors that the range lies in, as far as the device goes.
  [[nodiscard]] SectorRange whole_physical(SectorRange range) const;

  /// Reads whole sectors. Throws Error: device_read, naming the first sector that could not be
  /// read, or for a range that leaves the device; words, where out.size() isn't whole sectors.
  void read(std::uint64_t lba, ByteSpan out) const;
  [[nodiscard]] Bytes read(std::uint64_t lba, std::uint64_t count = 1) const;
  /// As read, of what won't be asked for again, such as the contents of files: a device that keeps
  /// what was read, since asking again is dear, doesn't keep these.
  void read_once(std::uint64_t lba, ByteSpan out) const;
  /// Writes whole sectors. What shares a physical sector with them is read and written along with
  /// what it holds, so that the medium has nothing to merge. Throws Error: device_write, also where
  /// it isn't writable; device_read for such a neighbour; words, as read.
  void write(std::uint64_t lba, ByteView data);
  /// Makes sure that these sectors can be written as long as the medium lives: an image with holes
  /// gets room for them, and holds what it held. Throws Error (refused) when there isn't enough.
  void reserve(const SectorSet& sectors);
  /// Returns when everything written is on the medium. Throws Error (device_write).
  void flush();
  /// It was opened for writing; write() throws otherwise.
  [[nodiscard]] virtual bool writable() const { return true; }
  /// Asks the system to read the partition table again; false when it could not.
  virtual bool reread_table() { return true; }
  /// Forgets what is cached of the range, so that the next read asks the medium where the system
  /// allows that.
  virtual void forget(SectorRange range) const;
  /// Reads from now on give what others may have written since the last one. Only a device that
  /// keeps what was read has anything to do: the system's own memory always shows it.
  virtual void refresh() const {}
  /// The use that others make of the disk, in words; empty when nothing is known of it. Of one that
  /// was opened for writing, who uses it (a mount, a process that may write). And, until this
  /// object itself writes, that something else wrote since it was opened: an image has a time of
  /// its last write, a block device counts its writes. A network disk says nothing of others.
  [[nodiscard]] virtual std::string disturbance() const { return {}; }
  /// That what was opened is no longer what its name leads to, or has another length, in words;
  /// empty when it isn't so, or can't be told. What is written goes to what was opened.
  [[nodiscard]] virtual std::string replaced() const { return {}; }
  /// Reads from the medium, not from the system's memory. False where the system can't do that:
  /// what was read may then be what it remembers. Errors as read.
  [[nodiscard]] bool read_medium(std::uint64_t lba, ByteSpan out) const;
  /// Sectors that can be read at all: fewer than sectors() where the end is cut off.
  [[nodiscard]] virtual std::uint64_t there() const { return sectors_; }
  /// The first sector from `lba` on that may hold anything but zeros; sectors() when none does.
  /// Sparse images answer from their holes, others answer `lba`.
  [[nodiscard]] virtual std::uint64_t next_data(std::uint64_t lba) const;

 protected:
  Device(std::uint32_t sector_size, std::uint64_t sectors, DeviceIdentity identity,
         PhysicalSector physical = {});
  /// False for a device that is not a medium: what it lies on writes whole physical sectors.
  [[nodiscard]] virtual bool is_medium() const { return true; }
  virtual void do_read(std::uint64_t lba, ByteSpan out) const = 0;
  virtual void do_read_once(std::uint64_t lba, ByteSpan out) const { do_read(lba, out); }
  /// Unless overridden: nothing is remembered, so that a read is one of the medium.
  virtual bool do_read_medium(std::uint64_t lba, ByteSpan out) const {
    do_read(lba, out);
    return true;
  }
  virtual void do_write(std::uint64_t lba, ByteView data) = 0;
  virtual void do_flush() = 0;
  virtual void do_reserve(SectorRange /*range*/) {}

 private:
  [[nodiscard]] Error beyond_the_end(std::uint64_t lba, std::uint64_t size, bool writing) const;
  void check_range(std::uint64_t lba, std::size_t size, bool writing) const;

  std::uint32_t sector_size_;
  std::uint64_t sectors_;
  DeviceIdentity identity_;
  PhysicalSector physical_;
};

/// Sectors to be written from `lba` on.
struct SectorWrite {
  std::uint64_t lba = 0;
  Bytes data;
};

/// A disk in memory that keeps only what was written; zeros cost nothing, nor do clones before they
/// are written. Clones may be used in different threads.
class MemoryDevice final : public Device {
 public:
  MemoryDevice(std::uint64_t sectors, std::uint32_t sector_size, PhysicalSector physical = {});
  [[nodiscard]] std::unique_ptr<MemoryDevice> clone() const;
  /// Equal contents, sector for sector.
  [[nodiscard]] bool same_as(const MemoryDevice& other) const;
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override;
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override {}

  // By number of 64 KiB chunk; one that clones share is copied before it is written.
  std::map<std::uint64_t, std::shared_ptr<Bytes>> chunks_;
};

/// Copies every sector; holes of a sparse image are not read, and not written to a device that
/// holds zeros there. Throws Error (refused) when sector size or number differ; errors as read and
/// write.
void copy_device(const Device& from, Device& to);

/// A range of another device to be read as a device of its own; LBA 0 is the range's first sector.
/// A write is an Error (device_write). The parent must outlive it.
class Window : public Device {
 public:
  /// Throws Error (damaged) when the range leaves the parent.
  Window(const Device& parent, SectorRange range);
  [[nodiscard]] const SectorRange& range() const { return range_; }
  [[nodiscard]] bool writable() const override { return false; }
  void forget(SectorRange range) const override;
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;

 protected:
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override {}

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override;
  void do_read_once(std::uint64_t lba, ByteSpan out) const override;
  bool do_read_medium(std::uint64_t lba, ByteSpan out) const override;
  [[nodiscard]] bool is_medium() const override { return false; }

  const Device& parent_;
  SectorRange range_;
};

/// The same, to be written too.
class WritableWindow final : public Window {
 public:
  WritableWindow(Device& parent, SectorRange range) : Window(parent, range), parent_(parent) {}
  [[nodiscard]] bool writable() const override { return parent_.writable(); }

 private:
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override;

  Device& parent_;
};

/// Copy on write: reads come from the base until a sector is written here; the base is never
/// written. What is written goes to a nameless temporary file, so memory grows only with the number
/// of separate ranges. The base must outlive it.
class Overlay final : public Device {
 public:
  explicit Overlay(const Device& base);
  ~Overlay() override;
  /// The sectors written so far.
  [[nodiscard]] SectorSet written() const;
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override;
  void do_read_once(std::uint64_t lba, ByteSpan out) const override;
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override {}
  [[nodiscard]] bool is_medium() const override { return false; }
  template <typename Read>
  void read_parts(std::uint64_t lba, ByteSpan out, Read below) const;

  const Device& base_;
  std::unique_ptr<device::SectorStore> written_;
};

}  // namespace nuvrat
