#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/survey.h>

#include "base/budget.h"
#include "base/memory.h"
#include "disk/cut_window.h"
#include "disk/known_manifest.h"
#include "disk/lost_start.h"
#include "table/no_partition.h"
#include "tree/comparer.h"
#include "tree/known.h"
#include "tree/places.h"

namespace nuvrat {
using namespace disk;
namespace {

// What was recorded of the partition, if it begins and ends where it did and nothing of it was
// written.
template <typename Item>
const Item* untouched(const KnownManifest* known,
                      const std::vector<Item>& (tree::Recording::*recorded)() const,
                      SectorRange range) {
  if (known == nullptr || known->written.first_overlap(range)) return nullptr;
  const auto& all = (known->recorded.*recorded)();
  const auto it = std::find_if(all.begin(), all.end(), [range](const Item& item) {
    return item.start == range.first && item.sectors == range.count;
  });
  return it == all.end() ? nullptr : &*it;
}

std::string description_of(const Device& device) {
  try {
    return recognise_volume(device).description;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
    return "contents whose beginning can't be read";
  }
}

// A volume that can be read, or none: what is wrong with it is then in `fault`.
std::unique_ptr<VolumeReader> open_for_manifest(const Device& device, const ReadOptions& options,
                                                std::string& fault) {
  ReadOptions wanted = options;
  wanted.short_names = false;
  try {
    auto reader = open_volume(device, wanted);
    if (reader) (void)reader->tree();
    if (!reader && recognise_volume(device).kind == VolumeKind::unknown)
      fault = lost_start_words(device, wanted);
    return reader;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
    fault = e.message();
    return nullptr;
  }
}

// One disk's manifest, partition by partition.
class Taker {
 public:
  // `known`: null where no recording is at hand.
  Taker(const Device& device, const ReadOptions& read, Progress& progress,
        const ManifestOptions& options, const KnownManifest* known)
      : device_(device), read_(read), progress_(progress), options_(options), known_(known) {}

  void take(const Partition& p) {
    if (const auto* same = untouched(known_, &tree::Recording::volumes, p.range())) {
      ManifestVolume& volume = out_.volumes.emplace_back();
      volume.number = p.number;
      volume.start = p.start;
      volume.sectors = p.sectors;
      volume.info = same->info;
      volume.untouched = true;
      return;
    }
    const auto window = window_onto(device_, p.range());
    std::string fault;
    if (const auto reader = open_for_manifest(*window, read_, fault)) {
      take_volume(*reader, p);
    } else {
      take_range(*window, p, std::move(fault));
    }
  }

  [[nodiscard]] Manifest& manifest() { return out_; }

 private:
  void take_volume(VolumeReader& reader, const Partition& p) {
    // Of a volume that could not be read there is nothing to compare contents with.
    const bool opened = known_ != nullptr && known_->expectation.opens(p.start);
    const Proof proof = opened ? Proof::places : options_.proof;
    const bool by_places = proof == Proof::places;
    progress_.stage(fmt::format("{} {}", options_.doing, part_name(p.number)),
                    by_places ? 0 : reader.tree().total_bytes());
    // By places nothing is hashed but what has no place, and so isn't known by one.
    ManifestVolume volume = known_ != nullptr && !by_places
                                ? record_known_at(reader, p)
                                : record_volume(reader, p.start, progress_, proof);
    volume.number = p.number;
    volume.sectors = p.sectors;
    out_.volumes.push_back(std::move(volume));
  }

  // What was recorded of the volume, though it may begin elsewhere now.
  ManifestVolume record_known_at(VolumeReader& reader, const Partition& p) {
    const Expectation& expectation = known_->expectation;
    const auto was = expectation.start_before(p.start);
    const auto nodes = was ? known_->recorded.nodes_at(*was) : nullptr;
    if (nodes == nullptr) return record_volume(reader, p.start, progress_);
    return tree::record_known(
        reader, p.start, progress_,
        {*nodes, *was, tree::renamings(expectation.changes(), expectation.id_before(*was)),
         known_->written});
  }

  void take_range(const Device& window, const Partition& p, std::string fault) {
    ManifestRange range;
    if (const auto* same = untouched(known_, &tree::Recording::ranges, p.range())) {
      range = *same;
    } else {
      range = read_range(window, p, std::move(fault));
    }
    range.number = p.number;
    out_.ranges.push_back(std::move(range));
  }

  ManifestRange read_range(const Device& window, const Partition& p, std::string fault) {
    const std::uint64_t there = there_of(device_, p.range());
    const bool by_place = options_.proof == Proof::places && there == p.sectors;
    progress_.stage(fmt::format("{} {}", options_.doing, part_name(p.number)),
                    by_place ? 0 : there * device_.sector_size());
    ManifestRange range;
    range.start = p.start;
    range.sectors = p.sectors;
    range.description = there == 0 ? "beyond the end of the disk" : description_of(window);
    range.holds_nothing = class_of(p.type) == TypeClass::reserved;
    range.fault = std::move(fault);
    range.placed = by_place;
    if (by_place)
      range.digest = tree::range_place(p.range());
    else if (there > 0)
      range.digest = range_digest(device_, {p.start, there}, progress_, range.unreadable);
    if (there < p.sectors)
      range.unreadable.push_back(
          {there * device_.sector_size(), (p.sectors - there) * device_.sector_size()});
    return range;
  }

  const Device& device_;
  const ReadOptions& read_;
  Progress& progress_;
  const ManifestOptions& options_;
  const KnownManifest* known_;
  Manifest out_;
};

// Where a chain of EBRs ends too early there may be more logical partitions: that they would be in
// the extended one is all that is known.
void note_unseen_logicals(const TableReading& table, Manifest& out) {
  const Partition* extended = table.layout.extended();
  for (Rule code :
       {Rule::ebr_unreadable, Rule::ebr_no_signature, Rule::ebr_outside, Rule::ebr_too_many}) {
    const Finding* ends = find_code(table.findings, code);
    if (ends == nullptr || extended == nullptr) continue;
    ManifestRange& range = out.ranges.emplace_back();
    range.number = extended->number;
    range.start = extended->start;
    range.sectors = extended->sectors;
    range.description = "logical partitions that can't be seen";
    range.fault = ends->text;
    range.holds_nothing = true;  // what is in it is in others, where they can be seen
    range.unreadable.push_back({0, extended->sectors * table.layout.sector_size});
    return;
  }
}

// A volume without a table, as long as it says that it is; what Nuvrat doesn't know is one range.
Partition whole_disk(const Device& device, const ReadOptions& options) {
  Partition whole;
  whole.sectors = device.sectors();
  try {
    (void)open_volume(device, options);
    return whole;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
  }
  // With its second boot sector it is not cut off.
  if (!second_boot_words(device, options).empty()) return whole;
  constexpr std::uint64_t longest = std::uint64_t{1} << 40;
  const CutWindow longer(device, {0, longest});
  std::string ignored;
  if (const auto reader = open_for_manifest(longer, options, ignored))
    whole.sectors = std::max(whole.sectors, reader->info().sectors);
  return whole;
}

Manifest take(const Device& device, const ReadOptions& read, Progress& progress,
              const ManifestOptions& options, const KnownManifest* known) {
  base::give_back_memory();  // a record of every file comes now
  const std::vector<unsigned>& numbers = options.numbers;
  Taker taker(device, read, progress, options, known);
  Manifest& out = taker.manifest();
  out.proof = options.proof;
  out.device = device.identity().path;
  out.zone = read.zone.name();
  out.sector_size = device.sector_size();
  out.chosen = !numbers.empty();
  const TableReading table = read_table(device);
  std::vector<Partition> parts = table.layout.data_partitions();
  if (parts.empty() && (table.layout.kind == TableKind::none || is_bare_volume(device, table)))
    parts.push_back(whole_disk(device, read));
  for (const unsigned number : numbers) {
    if (std::none_of(parts.begin(), parts.end(),
                     [number](const auto& p) { return p.number == number; })) {
      throw table::no_partition(table.layout, number);
    }
  }
  base::Budget covered(device.sectors());
  for (const Partition& p : parts) {
    if (!numbers.empty() && std::find(numbers.begin(), numbers.end(), p.number) == numbers.end())
      continue;
    if (!covered.take(there_of(device, p.range()))) {
      throw Error(
          ErrorCode::damaged,
          fmt::format("the partitions overlap so much that reading up to p{} would read the "
                      "disk more than four times",
                      p.number),
          {}, "Name the partitions to read");
    }
    taker.take(p);
  }
  if (numbers.empty()) note_unseen_logicals(table, out);
  // Of a disk whose table is there and can't be read the range says nothing of the files.
  const auto error = std::find_if(table.findings.begin(), table.findings.end(),
                                  [](const Finding& f) { return f.severity == Severity::error; });
  if (error != table.findings.end() && table.layout.data_partitions().empty()) {
    for (ManifestRange& range : out.ranges) {
      if (range.number == 0 && range.fault.empty())
        range.fault = "the table can't be read: " + error->text;
    }
  }
  out.disturbance = device.disturbance();
  return std::move(out);
}

}  // namespace

Manifest take_manifest(const Device& device, const ReadOptions& read, Progress& progress,
                       const ManifestOptions& options) {
  return take(device, read, progress, options, nullptr);
}

Manifest disk::take_known_manifest(const Device& device, const ReadOptions& read,
                                   Progress& progress, const ManifestOptions& options,
                                   const KnownManifest& known) {
  return take(device, read, progress, options, &known);
}

Verification disk::verify_recorded(tree::Recording recorded, const Device& device,
                                   const ReadOptions& read, Progress& progress,
                                   const std::vector<unsigned>& numbers) {
  ManifestOptions options;
  options.numbers = numbers;
  options.proof = recorded.proof();
  const Layout layout = read_table(device).layout;
  const auto was_recorded = [&recorded](std::uint64_t start) {
    const auto begins_there = [start](const auto& part) { return part.start == start; };
    const auto& volumes = recorded.volumes();
    const auto& ranges = recorded.ranges();
    return std::any_of(volumes.begin(), volumes.end(), begins_there) ||
           std::any_of(ranges.begin(), ranges.end(), begins_there);
  };
  if (recorded.chosen() && numbers.empty()) {
    for (const Partition& p : layout.data_partitions()) {
      if (was_recorded(p.start)) options.numbers.push_back(p.number);
    }
  }
  Verification out;
  out.now = take_manifest(device, read, progress, options);
  if (!numbers.empty()) {
    std::set<std::uint64_t> starts;
    for (const Partition& p : layout.data_partitions()) {
      if (std::find(numbers.begin(), numbers.end(), p.number) != numbers.end())
        starts.insert(p.start);
    }
    recorded.choose(starts);
    if (recorded.volumes().size() + recorded.ranges().size() < starts.size())
      throw Error(ErrorCode::words, "the manifest has nothing of a partition that was named", {},
                  "It was recorded of other partitions: leave that one out");
  }
  tree::hash_unsettled(recorded, out.now, device, {{}, {}, progress});
  out.comparison = tree::with_seals(
      tree::compare_with_changes(recorded, out.now, AccessTimes::left, {}), recorded, out.now);
  return out;
}

Verification verify_disk(const Manifest& recorded, const Device& device, const ReadOptions& read,
                         Progress& progress, const std::vector<unsigned>& numbers) {
  return verify_recorded(tree::Recording(recorded), device, read, progress, numbers);
}

}  // namespace nuvrat
