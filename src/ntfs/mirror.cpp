#include "ntfs/mirror.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/fixup.h"
#include "ntfs/records.h"

namespace nuvrat::ntfs {
namespace {

std::uint64_t mirror_byte(const Geometry& g, std::uint64_t number) {
  return g.mirror_lcn * g.cluster_bytes() + number * g.record_bytes;
}

// As it is on the disk. A record may be in two runs of $MFT.
std::uint64_t record_byte(const Volume& volume, std::uint64_t offset) {
  const std::uint64_t cluster = volume.geometry().cluster_bytes();
  const auto run = volume.mft().at(offset / cluster);
  return run ? run->lcn * cluster + offset % cluster : 0;
}

Bytes read_bytes(const Device& device, std::uint64_t byte, std::uint64_t count) {
  const std::uint64_t size = device.sector_size();
  const Bytes sectors = device.read(byte / size, div_up(byte % size + count, size));
  const auto begin = sectors.begin() + static_cast<std::ptrdiff_t>(byte % size);
  return {begin, begin + static_cast<std::ptrdiff_t>(count)};
}

Bytes raw_copy(const Volume& volume, std::uint64_t number) {
  const Geometry& g = volume.geometry();
  return read_bytes(volume.device(), mirror_byte(g, number), g.record_bytes);
}

Bytes raw_record(const Volume& volume, std::uint64_t number) {
  Bytes out(volume.geometry().record_bytes);
  volume.read(volume.mft(), number * out.size(), out);
  return out;
}

bool is_readable(const Volume& volume, std::uint64_t number) {
  try {
    (void)raw_record(volume, number);
    return true;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
    return false;
  }
}

// Update sequence and log number may differ: a copy is written by itself.
bool is_alike(Bytes a, Bytes b) {
  if (!unprotect(a) || !unprotect(b)) return false;
  for (Bytes* bytes : {&a, &b}) {
    const auto head = load<MultiSectorHeader>(*bytes);
    std::fill_n(bytes->begin() + head.usa_offset.value(), 2 * head.usa_count.value(),
                std::uint8_t{0});
    std::fill_n(bytes->begin() + 8, 8, std::uint8_t{0});
  }
  return a == b;
}

// The rest of the volume says which of two is right where they differ in what lies where. Of times,
// names, the label and the volume's flags each has its own word, and nothing decides.
bool is_decided(const Volume& volume, std::uint64_t number, Bytes record, Bytes copy) {
  if (!unprotect(record) || !unprotect(copy)) return true;
  const auto told = [&](ByteView bytes) {
    std::vector<std::pair<std::uint32_t, Bytes>> out;
    for (const AttributeView& a : volume.attributes(number, bytes)) {
      const bool placed = a.type == at_data || a.type == at_bitmap || a.type == at_attribute_list;
      if (!placed) out.emplace_back(a.type, Bytes(a.value.begin(), a.value.end()));
    }
    return out;
  };
  try {
    return told(record) == told(copy);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged) throw;
    return true;  // one of them is no record
  }
}

// Pieces of records written over what is there, sector by sector.
class Pieces {
 public:
  explicit Pieces(const Device& device) : device_(device) {}
  void put(std::uint64_t byte, ByteView piece) {
    const std::uint64_t size = device_.sector_size();
    const std::uint64_t lba = byte / size;
    auto it = std::find_if(out_.begin(), out_.end(),
                           [lba](const SectorWrite& w) { return w.lba == lba; });
    if (it == out_.end()) it = out_.insert(out_.end(), {lba, device_.read(lba)});
    std::copy(piece.begin(), piece.end(),
              it->data.begin() + static_cast<std::ptrdiff_t>(byte % size));
  }
  [[nodiscard]] std::vector<SectorWrite> take() { return std::move(out_); }

 private:
  const Device& device_;
  std::vector<SectorWrite> out_;
};

constexpr std::uint64_t piece_size = 512;  // no sector is shorter, and no cluster

// From the last piece to the first, which makes them a record: what is there on the way is none.
template <typename Byte>
void put_record(Pieces& out, ByteView record, const Byte& byte_of) {
  for (std::uint64_t at = record.size(); at >= piece_size; at -= piece_size)
    out.put(byte_of(at - piece_size), record.subspan(at - piece_size, piece_size));
}

}  // namespace

void Volume::look_for_stand_in(std::uint64_t number) {
  const std::uint64_t at = number * geometry_.record_bytes;
  const std::uint64_t in_mirror = geometry_.mirror_lcn * geometry_.cluster_bytes() + at;
  Bytes record(geometry_.record_bytes);
  if (try_read(mft_, at, record) && unprotect_record(record) == RecordState::sound) return;
  const std::uint64_t clusters = div_up(in_mirror + record.size(), geometry_.cluster_bytes());
  if (clusters > geometry_.clusters() || !try_read(RunMap({{0, clusters}}), in_mirror, record))
    return;
  if (unprotect_record(record) != RecordState::sound || !is_in_use(record) ||
      load<FileRecord>(record).base.value() != 0)
    return;
  stand_ins_.emplace(number, std::move(record));
}

void note_stand_ins(const Volume& volume, base::FindingLog& log) {
  for (const auto& [number, record] : volume.stand_ins()) {
    const bool readable = is_readable(volume, number);
    const std::uint64_t byte = record_byte(volume, number * volume.geometry().record_bytes);
    log.add(Rule::ntfs_first_records, Severity::error,
            Place{.sector = byte / volume.device().sector_size(), .record = number},
            fmt::format("the record {}: its copy in $MFTMirr is read in its place",
                        readable ? "is damaged" : "can't be read"),
            readable);
  }
}

void check_mirror(const Volume& volume, const std::vector<AttributeView>& mirror,
                  base::FindingLog& log) {
  const Geometry& g = volume.geometry();
  bool in_place = true;
  const auto wrong = [&](Severity severity, std::string text, bool repairable) {
    log.add(Rule::ntfs_mirror, severity, Place{.record = record_mirror}, std::move(text),
            repairable);
  };
  const auto misplaced = [&](const char* text) {
    in_place = false;
    wrong(Severity::error, text, false);
  };
  const AttributeView* data = find_attribute(mirror, at_data);
  if (data == nullptr || data->size < Volume::mirrored * g.record_bytes) {
    misplaced("$MFTMirr doesn't hold four records");
    return;
  }
  if (data->runs.empty() || data->runs.front().lcn != g.mirror_lcn)
    misplaced("$MFTMirr isn't where the boot sector says");
  const std::uint64_t held = data->runs.empty() ? 0 : data->runs.front().count;
  if (held * g.cluster_bytes() < Volume::mirrored * g.record_bytes)
    misplaced("$MFTMirr is in pieces: readers know only where it begins");
  for (std::uint64_t i = 0; i < Volume::mirrored; ++i) {
    if (volume.stand_ins().contains(i)) continue;  // the copy is all there is
    Bytes copy(g.record_bytes);
    volume.read(*data, i * g.record_bytes, copy);
    Bytes whole = copy;
    Bytes own;
    const bool sound = volume.read_record(i, own) == Volume::RecordState::sound;
    if (!unprotect(whole) || !sound) {
      wrong(Severity::error, fmt::format("copy {} was not written whole", i), in_place && sound);
    } else if (!is_alike(copy, raw_record(volume, i))) {
      const bool decided = is_decided(volume, i, raw_record(volume, i), std::move(copy));
      wrong(Severity::warning,
            fmt::format("copy {} in $MFTMirr differs from the record itself{}", i,
                        decided ? ""
                                : ", in times, names, the label or flags; nothing else on the "
                                  "volume says which is right: both stay as they are"),
            in_place && decided);
    }
  }
}

std::vector<SectorWrite> mended_records(const Volume& volume) {
  Pieces out(volume.device());
  for (const auto& [number, record] : volume.stand_ins()) {
    put_record(out, raw_copy(volume, number),
               [&, first = number * record.size()](std::uint64_t at) {
                 return record_byte(volume, first + at);
               });
  }
  return out.take();
}

std::vector<SectorWrite> mended_copies(const Volume& volume) {
  Pieces out(volume.device());
  for (std::uint64_t i = 0; i < Volume::mirrored; ++i) {
    if (volume.stand_ins().contains(i)) continue;
    const Bytes record = raw_record(volume, i);
    const Bytes copy = raw_copy(volume, i);
    if (!is_alike(copy, record) && is_decided(volume, i, record, copy))
      put_record(out, record, [&, first = mirror_byte(volume.geometry(), i)](std::uint64_t at) {
        return first + at;
      });
  }
  return out.take();
}

SectorSet mirrored_sectors(const Geometry& g, std::uint32_t sector_size) {
  SectorSet out;
  const std::uint64_t sectors =
      div_up<std::uint64_t>(Volume::mirrored * g.record_bytes, sector_size);
  for (const std::uint64_t lcn : {g.mft_lcn, g.mirror_lcn})
    out.add({lcn * g.cluster_bytes() / sector_size, sectors});
  return out;
}

}  // namespace nuvrat::ntfs
