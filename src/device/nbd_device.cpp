#include "device/nbd_device.h"

#include <algorithm>
#include <cerrno>
#include <optional>
#include <vector>

#include <fmt/core.h>
#include <libnbd.h>

#include <nuvrat/error.h>

#include "device/bad_sectors.h"
#include "device/physical.h"
#include "device/sector_store.h"

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

// What a server gave, so that survey, check, plan, manifest and rehearsal ask it once for what they
// all read. The system's memory does that for a disk at hand. What can't be kept is asked for
// again.
class KeptReads {
 public:
  explicit KeptReads(std::uint32_t sector_size) : sector_size_(sector_size) {}

  template <typename Ask>
  void read(std::uint64_t lba, ByteSpan out, Ask ask) {
    const auto bytes_of = [&](SectorRange part) {
      return out.subspan((part.first - lba) * sector_size_, part.count * sector_size_);
    };
    std::vector<SectorRange> asked;
    const auto ask_for = [&](SectorRange part) {
      ask(part.first, bytes_of(part));
      asked.push_back(part);
    };
    const SectorRange all{lba, out.size() / sector_size_};
    if (!keeps()) return ask_for(all);
    store_->each_part(
        all,
        [&](SectorRange part, std::uint64_t offset) {
          if (!if_possible([&] { store_->read(offset, bytes_of(part)); })) ask_for(part);
        },
        ask_for);
    for (const SectorRange& part : asked) keep(part.first, bytes_of(part));
  }

  // A sector that was asked for anew though it is kept: the first that isn't what it was.
  std::optional<std::uint64_t> changed_in(std::uint64_t lba, ByteView now) {
    std::optional<std::uint64_t> out;
    if (!store_ || failed_) return out;
    store_->each_part(
        {lba, now.size() / sector_size_},
        [&](SectorRange part, std::uint64_t offset) {
          Bytes was(part.count * sector_size_);
          if (out || !if_possible([&] { store_->read(offset, was); })) return;
          const ByteView is = now.subspan((part.first - lba) * sector_size_, was.size());
          const auto differs = std::mismatch(was.begin(), was.end(), is.begin()).first;
          if (differs != was.end())
            out = part.first + static_cast<std::uint64_t>(differs - was.begin()) / sector_size_;
        },
        [](SectorRange) {});
    return out;
  }

  void drop(SectorRange range) {
    if (store_) store_->drop(range);
  }

 private:
  bool keeps() {
    if (!store_ && !failed_)
      if_possible([&] { store_ = std::make_unique<device::SectorStore>(sector_size_); });
    return store_ != nullptr && !failed_;
  }

  // What comes first is kept: structures come before contents.
  void keep(std::uint64_t lba, ByteView data) {
    if (failed_ || store_->bytes() + data.size() > store_->fair_bytes()) return;
    if_possible([&] { store_->write(lba, data); });
  }

  template <typename Work>
  bool if_possible(Work work) {
    try {
      work();
      return true;
    } catch (const Error& e) {
      if (e.code() != ErrorCode::file) throw;
      failed_ = true;
      return false;
    }
  }

  std::uint32_t sector_size_;
  std::unique_ptr<device::SectorStore> store_;
  bool failed_ = false;  // the temporary file is of no use any more
};

class NbdDevice final : public Device {
 public:
  NbdDevice(Handle handle, const OpenOptions& options, std::uint64_t sectors,
            DeviceIdentity identity, PhysicalSector physical)
      : Device(options.sector_size, sectors, std::move(identity), physical),
        handle_(std::move(handle)),
        kept_(options.sector_size),
        writable_(options.writable) {}

  [[nodiscard]] bool writable() const override { return writable_; }

  void forget(SectorRange range) const override {
    kept_.drop(range);
    bad_.forget(range);
  }
  void refresh() const override { kept_.drop({0, sectors()}); }

 private:
  static constexpr std::size_t piece = 8u << 20;  // a server may refuse more than 32 MiB

  void do_read(std::uint64_t lba, ByteSpan out) const override {
    kept_.read(lba, out, [this](std::uint64_t at, ByteSpan part) { ask_unless_bad(at, part); });
  }
  void do_read_once(std::uint64_t lba, ByteSpan out) const override {
    ask_unless_bad(lba, out);
    require_same(lba, out);
  }
  // Nobody says who else writes to the disk. What is asked for anew says it of its sectors.
  void require_same(std::uint64_t lba, ByteView now) const {
    const auto changed = kept_.changed_in(lba, now);
    if (!changed) return;
    throw Error(ErrorCode::busy,
                "something else writes to the disk that the server offers: a sector isn't what it "
                "was a moment ago",
                {.subject = identity().path, .sector = *changed},
                "Close what uses it there, and run the command again: all is read anew");
  }
  void ask_unless_bad(std::uint64_t lba, ByteSpan out) const {
    if (const auto bad = bad_.first_in({lba, out.size() / sector_size()})) {
      throw failed(ErrorCode::device_read, *bad,
                   "the server didn't give a sector when it was asked, and isn't asked again");
    }
    ask_in_pieces(lba, out);
  }
  // In pieces that every server takes.
  void ask_in_pieces(std::uint64_t lba, ByteSpan out) const {
    std::uint64_t at = lba;
    for (ByteSpan rest = out; !rest.empty();) {
      const ByteSpan part = rest.first(std::min(rest.size(), piece));
      if (!ask(at, part)) {
        const std::string why = "the server didn't give sectors: " + last_words();
        // Any other answer than that is about the server, not about a sector.
        const bool of_sector = nbd_get_errno() == EIO;
        throw failed(ErrorCode::device_read,
                     of_sector ? std::optional(find_bad(at, part)) : std::nullopt, why);
      }
      rest = rest.subspan(part.size());
      at += part.size() / sector_size();
    }
  }
  [[nodiscard]] bool ask(std::uint64_t lba, ByteSpan out) const {
    return nbd_pread(handle_.get(), out.data(), out.size(), lba * sector_size(), 0) == 0;
  }
  // The server says of a whole piece that it can't be read: the first sector of it that can't.
  [[nodiscard]] std::uint64_t find_bad(std::uint64_t lba, ByteSpan out) const {
    while (out.size() > sector_size()) {
      const std::size_t half = out.size() / sector_size() / 2 * sector_size();
      if (ask(lba, out.first(half))) {
        lba += half / sector_size();
        out = out.subspan(half);
      } else {
        out = out.first(half);
      }
    }
    if (!ask(lba, out) && nbd_get_errno() == EIO) bad_.add(lba);
    return lba;
  }
  // The server may answer from its own memory.
  bool do_read_medium(std::uint64_t lba, ByteSpan out) const override {
    ask_in_pieces(lba, out);
    require_same(lba, out);
    return false;
  }
  void do_write(std::uint64_t lba, ByteView data) override {
    kept_.drop({lba, data.size() / sector_size()});
    bad_.forget({lba, data.size() / sector_size()});  // a medium may put another one in its place
    std::uint64_t at = lba;
    for (ByteView rest = data; !rest.empty();) {
      const ByteView part = rest.first(std::min(rest.size(), piece));
      if (nbd_pwrite(handle_.get(), part.data(), part.size(), at * sector_size(), 0) != 0)
        throw failed(ErrorCode::device_write, at,
                     "the server didn't take sectors: " + last_words());
      rest = rest.subspan(part.size());
      at += part.size() / sector_size();
    }
  }
  void do_flush() override {
    if (nbd_flush(handle_.get(), 0) != 0)
      throw failed(ErrorCode::device_write, {}, "the server couldn't flush: " + last_words());
  }

  [[nodiscard]] Error failed(ErrorCode code, std::optional<std::uint64_t> lba,
                             const std::string& why) const {
    return {code,
            why,
            {.subject = identity().path, .sector = lba},
            "See whether the server still runs, and connect again"};
  }

  Handle handle_;
  mutable KeptReads kept_;
  bool writable_;
  mutable device::BadSectors bad_;
};

}  // namespace

std::unique_ptr<Device> device::open_nbd(const std::string& address, const OpenOptions& options) {
  const Place place{.subject = address};
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
    throw Error(
        ErrorCode::words,
        bytes < 0
            ? std::string("the server offers no size, or more bytes than a disk can have")
            : fmt::format("the server offers {} bytes, which is not a whole number of {}-byte "
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
  return std::make_unique<NbdDevice>(std::move(handle),
                                     OpenOptions{.writable = options.writable, .sector_size = size},
                                     static_cast<std::uint64_t>(bytes) / size, std::move(identity),
                                     device::physical_of(options, size, physical, 0));
}

}  // namespace nuvrat
