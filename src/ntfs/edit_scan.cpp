// What an edit finds on the volume.

#include <algorithm>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/edit_parts.h"

namespace nuvrat::ntfs {
namespace {

Geometry as_wide_as(Geometry geometry, const EditRequest& request) {
  geometry.total_sectors += request.front * geometry.cluster_sectors;
  if (request.clusters)
    geometry.total_sectors =
        std::max(geometry.total_sectors, *request.clusters * geometry.cluster_sectors);
  return geometry;
}

SectorSet set_of(const std::vector<Run>& runs) {
  SectorSet out;
  for (const Run& r : runs) out.add({r.lcn, r.count});
  return out;
}

Runs shifted(Runs runs, std::uint64_t by) {
  for (Run& r : runs) {
    if (r.lcn != Run::hole) r.lcn += by;
  }
  return runs;
}

class Scanner {
 public:
  Scanner(const EditVolume& volume, const PutRecords& puts) : v_(volume), puts_(puts) {}

  EditScan scan() {
    using State = Volume::RecordState;
    v_.volume.each_record([this](std::uint64_t number, ByteSpan record, State state) {
      if (state == State::unreadable)
        throw Error(ErrorCode::device_read, "the device doesn't give a record", {.record = number});
      if (state == State::sound && is_in_use(record)) take(number, record);
    });
    std::sort(out_.in_the_way.begin(), out_.in_the_way.end(),
              [](const Run& a, const Run& b) { return a.lcn < b.lcn; });
    return std::move(out_);
  }

 private:
  void take(std::uint64_t number, ByteView record) {
    const std::uint64_t reference = load<FileRecord>(record).base.value();
    const std::uint64_t base = reference == 0 ? number : record_of(reference);
    if (reference != 0) out_.extensions.emplace(base, number);
    each_raw_attribute(record, v_.geometry(),
                       [&](const RawAttribute& a) { take(number, base, a); });
  }

  void take(std::uint64_t number, std::uint64_t base, const RawAttribute& a) {
    const bool of_system = is_of_system(base, a);
    if (of_system) out_.systems.insert(number);
    if (base == record_mft && a.head.type.value() == at_bitmap) out_.of_mft_bitmap.insert(number);
    if (base == record_boot) out_.boot.insert(out_.boot.end(), a.runs.begin(), a.runs.end());
    for (const Run& r : v_.counted_anew(a.runs)) {
      if (r.lcn == Run::hole) continue;
      out_.owned.add({r.lcn, r.count});
      if (!of_system && !is_put(puts_, base, a.head.type.value(), a.name))
        note_in_the_way(number, base, a, {r.lcn, r.count});
    }
  }

  void note_in_the_way(std::uint64_t number, std::uint64_t base, const RawAttribute& a,
                       SectorRange left) {
    const bool bad = base == record_bad && a.name == u"$Bad";
    const bool fixed = base == record_boot || bad;
    while (const auto hit = v_.vacate.first_overlap(left)) {
      // Bad clusters that leave the volume block nothing.
      if (!bad || hit->first < v_.clusters) {
        if (fixed) out_.fixed = out_.fixed.value_or(hit->first);
        (is_read_early(base) ? out_.early_in_the_way[base] : out_.in_the_way)
            .push_back({hit->first, hit->count});
        out_.owners.insert(number);
      }
      left = {hit->end(), left.end() - hit->end()};
      if (left.count == 0) break;
    }
  }

  static bool is_of_system(std::uint64_t base, const RawAttribute& a) {
    const bool unnamed_data = a.head.type.value() == at_data && a.name.empty();
    if (base == record_mft && a.head.type.value() == at_bitmap) return true;
    return unnamed_data && (base == record_mft || base == record_mirror || base == record_bitmap);
  }

  const EditVolume& v_;
  const PutRecords& puts_;
  EditScan out_;
};

}  // namespace

std::uint64_t boot_clusters(const Geometry& geometry) {
  constexpr std::uint64_t boot_bytes = 8192;
  return div_up(boot_bytes, geometry.cluster_bytes());
}

EditVolume::EditVolume(const Device& from, EditRequest asked)
    : device(from),
      request(std::move(asked)),
      volume(from),
      cluster_bytes(geometry().cluster_bytes()),
      record_bytes(geometry().record_bytes),
      boot_clusters(ntfs::boot_clusters(geometry())),
      packer(static_cast<std::uint32_t>(record_bytes), cluster_bytes),
      front(request.front),
      clusters(request.clusters.value_or(old_end())),
      widest(as_wide_as(geometry(), request)),
      vacate(set_of(request.vacate)),
      avoid(set_of(request.avoid)) {
  units.clusters = std::max<std::uint64_t>(1, record_bytes / cluster_bytes);
  units.records = std::max<std::uint64_t>(1, cluster_bytes / record_bytes);
  units.count = div_up(volume.mft().clusters(), units.clusters);
  if (clusters < old_end()) vacate.add({clusters, old_end() - clusters});
}

Runs EditVolume::counted_anew(Runs runs) const {
  return shifted(std::move(runs), front);
}

Runs EditVolume::as_before(Runs runs) const {
  return shifted(std::move(runs), std::uint64_t{0} - front);
}

Bytes EditVolume::sound_record(std::uint64_t number) const {
  Bytes out;
  if (volume.read_record(number, out) != Volume::RecordState::sound)
    throw Error(ErrorCode::damaged, "the record is damaged, or isn't there", {.record = number});
  return out;
}

SystemStreams find_system_streams(const EditVolume& v) {
  SystemStreams out;
  const auto take = [&](std::uint64_t number, std::uint32_t type) {
    const auto all = v.volume.attributes(number);
    const AttributeView* a = find_attribute(all, type);
    if (a == nullptr)
      throw Error(ErrorCode::damaged, "a file of the system lacks its contents",
                  {.record = number});
    if (type == at_bitmap) out.record_use = v.volume.read_all(*a, v.volume.records() / 8 + 4096);
    return SystemStream{v.counted_anew(a->runs), a->bytes(), a->resident};
  };
  out.mft = take(record_mft, at_data);
  out.mft_bitmap = take(record_mft, at_bitmap);
  out.mirror = take(record_mirror, at_data);
  out.bitmap = take(record_bitmap, at_data);
  if (out.mirror.resident || out.bitmap.resident)
    throw Error(ErrorCode::damaged, "$MFTMirr or $Bitmap lies in its record");
  return out;
}

std::optional<std::uint64_t> free_record(const EditVolume& v, const SystemStreams& streams,
                                         const RecordBits& taken, FreeRecords range) {
  const Bytes& use = streams.record_use;
  const std::uint64_t bits = std::min<std::uint64_t>(use.size() * 8, v.volume.records());
  for (std::uint64_t n = range.first; n < std::min(range.end, bits); ++n) {
    if ((use[n / 8] >> n % 8 & 1) != 0 || taken.contains(n)) continue;
    Bytes record;
    const auto state = v.volume.read_record(n, record);
    if (state == Volume::RecordState::sound && is_in_use(record)) continue;
    std::uint16_t sequence = 1;
    if (state == Volume::RecordState::sound)
      sequence = std::max<std::uint16_t>(1, load<FileRecord>(record).sequence.value());
    return file_reference(n, sequence);
  }
  return std::nullopt;
}

EditScan scan(const EditVolume& volume, const PutRecords& puts) {
  return Scanner(volume, puts).scan();
}

// $Boot is where a volume begins.
std::optional<Bytes> patched(const EditVolume& v, const ClusterMap& map, std::uint64_t number,
                             ByteView record) {
  const std::uint64_t reference = load<FileRecord>(record).base.value();
  const std::uint64_t base = reference == 0 ? number : record_of(reference);
  return with_runs(record, v.widest, [&](const RawAttribute& a) -> std::optional<Runs> {
    Runs now = base == record_boot ? a.runs : map.relocated(v.counted_anew(a.runs));
    if (now == a.runs) return std::nullopt;
    return now;
  });
}

}  // namespace nuvrat::ntfs
