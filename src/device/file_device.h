#pragma once
// An image file or a block device, behind a file descriptor that this object owns.

#include <nuvrat/device.h>

namespace nuvrat {

class FileDevice final : public Device {
 public:
  FileDevice(int file, std::uint32_t sector_size, std::uint64_t sectors, DeviceIdentity identity);
  ~FileDevice() override;
  bool reread_table() override;
  void forget(SectorRange range) const override;
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override;
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override;

  int file_;
};

}  // namespace nuvrat
