#include "device/nbd_device.h"

#include <algorithm>

#include <fmt/core.h>
#include <libnbd.h>

#include <nuvrat/error.h>

#include "device/physical.h"

namespace nuvrat {
namespace {

struct Close {
  void operator()(nbd_handle* handle) const { nbd_close(handle); }
};
using Handle = std::unique_ptr<nbd_handle, Close>;

std::string last_words() {
  const char* text = nbd_get_error();
  return text == nullptr ? "no reason was given" : text;
}

class NbdDevice final : public Device {
 public:
  NbdDevice(Handle handle, std::uint32_t sector_size, std::uint64_t sectors,
            DeviceIdentity identity, PhysicalSector physical)
      : Device(sector_size, sectors, std::move(identity), physical), handle_(std::move(handle)) {}

 private:
  static constexpr std::size_t piece = 8u << 20;  // a server may refuse more than 32 MiB

  // In pieces that every server takes.
  template <typename Span, typename Move>
  void in_pieces(std::uint64_t lba, Span bytes, ErrorCode code, const char* what, Move move) const {
    std::uint64_t at = lba * sector_size();
    while (!bytes.empty()) {
      const std::size_t n = std::min(bytes.size(), piece);
      if (move(bytes.data(), n, at) != 0) throw failed(code, what, at);
      bytes = bytes.subspan(n);
      at += n;
    }
  }

  void do_read(std::uint64_t lba, ByteSpan out) const override {
    in_pieces(lba, out, ErrorCode::device_read, "the server didn't give sectors",
              [this](std::uint8_t* to, std::size_t n, std::uint64_t at) {
                return nbd_pread(handle_.get(), to, n, at, 0);
              });
  }
  // The server may answer from its own memory.
  bool do_read_medium(std::uint64_t lba, ByteSpan out) const override {
    do_read(lba, out);
    return false;
  }
  void do_write(std::uint64_t lba, ByteView data) override {
    in_pieces(lba, data, ErrorCode::device_write, "the server didn't take sectors",
              [this](const std::uint8_t* from, std::size_t n, std::uint64_t at) {
                return nbd_pwrite(handle_.get(), from, n, at, 0);
              });
  }
  void do_flush() override {
    if (nbd_flush(handle_.get(), 0) != 0)
      throw failed(ErrorCode::device_write, "the server couldn't flush", 0);
  }

  [[nodiscard]] Error failed(ErrorCode code, const char* what, std::uint64_t at) const {
    return {code,
            fmt::format("{}: {}", what, last_words()),
            {identity().path, at / sector_size(), {}, {}},
            "See whether the server still runs, and connect again"};
  }

  Handle handle_;
};

}  // namespace

std::unique_ptr<Device> device::open_nbd(const std::string& address, const OpenOptions& options) {
  const Place place{address, {}, {}, {}};
  Handle handle(nbd_create());
  if (handle == nullptr || nbd_connect_uri(handle.get(), address.c_str()) != 0)
    throw Error(ErrorCode::words, "the server can't be reached: " + last_words(), place,
                "Name it as nbd://HOST/EXPORT or nbd+unix:///EXPORT?socket=PATH");
  const std::int64_t bytes = nbd_get_size(handle.get());
  const std::uint32_t size = options.sector_size == 0 ? 512 : options.sector_size;
  if (size != 512 && size != 4096)
    throw Error(ErrorCode::words, fmt::format("a sector size of {} is not possible", size), place,
                "Give --sector-size 512 or 4096");
  if (bytes <= 0 || bytes % size != 0)
    throw Error(ErrorCode::words,
                fmt::format("the server offers {} bytes, which is not a whole number of {}-byte "
                            "sectors",
                            bytes, size),
                place, "Name an export that is a disk");
  const std::int64_t least = nbd_get_block_size(handle.get(), LIBNBD_SIZE_MINIMUM);
  if (least > size)
    throw Error(ErrorCode::words,
                fmt::format("the server reads and writes {} bytes at a time, not {}", least, size),
                place, "Give --sector-size 4096, if the disk has such sectors");
  DeviceIdentity identity{address, DeviceKind::network, "", "", false, {}};
  identity.read_only = nbd_is_read_only(handle.get()) != 0;
  if (options.writable) {
    if (identity.read_only)
      throw Error(ErrorCode::refused, "the server offers the disk for reading only", place,
                  "Nothing was written. Start the server so that it may be written");
    if (nbd_can_flush(handle.get()) != 1)
      throw Error(ErrorCode::refused, "the server can't say when what was written is on the medium",
                  place, "Nothing was written. Use a server that offers flush");
  }
  const std::int64_t said = nbd_get_block_size(handle.get(), LIBNBD_SIZE_PREFERRED);
  const auto physical = static_cast<std::uint32_t>(std::clamp<std::int64_t>(said, 4096, 1 << 20));
  return std::make_unique<NbdDevice>(std::move(handle), size,
                                     static_cast<std::uint64_t>(bytes) / size, std::move(identity),
                                     device::physical_of(options, size, physical, 0));
}

}  // namespace nuvrat
