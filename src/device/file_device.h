#pragma once
// An image file or a block device, behind a file descriptor that this object owns.

#include <nuvrat/device.h>

#include "base/descriptor.h"
#include "device/bad_sectors.h"

namespace nuvrat::device {

class FileDevice final : public Device {
 public:
  FileDevice(base::Descriptor file, std::uint32_t sector_size, std::uint64_t sectors,
             DeviceIdentity identity, PhysicalSector physical);
  ~FileDevice() override;
  [[nodiscard]] bool writable() const override { return writable_; }
  bool reread_table() override;
  void forget(SectorRange range) const override;
  [[nodiscard]] std::string disturbance() const override;
  [[nodiscard]] std::string replaced() const override;
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override;
  bool do_read_medium(std::uint64_t lba, ByteSpan out) const override;
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override;
  void do_reserve(SectorRange range) override;

  base::Descriptor file_;
  base::Descriptor direct_;  // the same file, past the system's cache; not valid where it can't be
  base::Descriptor holes_;  // the same file with an offset of its own, which asking for holes moves
  bool writable_ = false;
  std::int64_t length_ = 0;  // of an image's file when it was opened
  std::string mark_;         // of all writes, when it was opened; empty once this object wrote
  mutable BadSectors bad_;
};

}  // namespace nuvrat::device
