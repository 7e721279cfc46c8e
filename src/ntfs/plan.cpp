#include "ntfs/plan.h"

#include <algorithm>

#include "ntfs/boot.h"
#include "tree/folders_ahead.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t default_first_node = 64;
constexpr std::uint64_t first_extension_of_mft = first_user_record + 3;
constexpr std::uint64_t mebi = 1u << 20;

std::uint64_t power_below(std::uint64_t n) {
  std::uint64_t out = 1;
  while (out * 2 <= n) out *= 2;
  return out;
}

// 2 MiB to 64 MiB; less where there is no room, down to what every reader takes.
std::uint64_t usual_log(std::uint64_t volume_bytes) {
  return std::clamp(power_below(volume_bytes / 128), 2 * mebi, 64 * mebi);
}
constexpr std::uint64_t min_log = mebi / 4;

// Whose records may have no extensions, and whose runs grow with the pieces that are free.
constexpr std::pair<Stream, SystemRecord> early_streams[] = {{Stream::log, record_log},
                                                             {Stream::attr_def, record_attr_def},
                                                             {Stream::bitmap, record_bitmap},
                                                             {Stream::upcase, record_upcase}};

}  // namespace

Plan::Plan(const FileTree& tree, const Format& format)
    : tree_(tree),
      format_(format),
      cluster_bytes_(std::uint64_t{format.cluster_sectors} * format.sector_bytes),
      clusters_((format.sectors - 1) / format.cluster_sectors),
      packer_(std::max(1024u, format.sector_bytes), cluster_bytes_),
      security_(make_security()) {
  plan_folders();
  plan_moves();
  tree::FreeRuns room(format_.free, 0, format_.cluster_sectors, boot_clusters(), clusters_);
  free_ = room.capacity();
  const std::uint64_t bytes = format_.sectors * format_.sector_bytes;
  const auto lay_out_in = [&](tree::FreeRuns& runs) {
    std::uint64_t log = usual_log(bytes);
    for (lay_out(log, runs); !fits() && log > min_log; lay_out(log, runs)) log /= 2;
  };
  tree::FreeRuns apart(format_.apart, 0, format_.cluster_sectors, boot_clusters(), clusters_);
  if (apart.capacity() > 0 && apart.capacity() < room.capacity()) {
    lay_out_in(apart);
    if (fits()) return;
  }
  lay_out_in(room);
}

std::uint64_t Plan::boot_clusters() const {
  return div_up<std::uint64_t>(8192, cluster_bytes_);
}

std::uint64_t Plan::whole_clusters() const {
  const std::uint64_t record_bytes = packer_.unused(0).size();
  std::uint64_t bytes = 0;
  if (split_start_) bytes += start_bytes_ + std::max(4 * record_bytes, cluster_bytes_);
  for (const Stream s : in_many_) bytes += size(s);
  return div_up(bytes, cluster_bytes_) + missing_;
}

std::uint64_t Plan::index_unit() const {
  return cluster_bytes_ <= index_block_bytes ? cluster_bytes_ : 512;
}

std::uint64_t Plan::record_of_node(FileTree::Id id) const {
  return id == FileTree::root ? std::uint64_t{record_root} : first_node_ + id - 1;
}

std::uint64_t Plan::reference_of(Entity e) const {
  const std::uint64_t record = is_system(e) ? e - system(0) : record_of_node(e);
  return file_reference(record, record > 0 && record < 16 ? static_cast<std::uint16_t>(record) : 1);
}

std::vector<Run> Plan::bad_runs() const {
  SectorSet bad;
  for (const SectorRange& r : format_.bad) bad.add(r);
  Runs out;
  for (const SectorRange& r : bad) {
    const std::uint64_t first = r.first / format_.cluster_sectors;
    const std::uint64_t end =
        std::min(div_up<std::uint64_t>(r.end(), format_.cluster_sectors), clusters_);
    if (first < end) add_run(out, {first, end - first});
  }
  return out;
}

// How many blocks a folder's index needs; 0 where its record holds the entries itself.
std::size_t Plan::index_blocks(FileTree::Id id) const {
  std::vector<std::uint32_t> sizes;
  std::size_t total = 0;
  for (const NameOf& n : sorted_names(*this, id)) {
    sizes.push_back(name_entry_bytes(*this, n));
    total += sizes.back();
  }
  std::size_t rest = 0;
  for (const Attribute& a : head_attributes_of(*this, id)) rest += a.bytes();
  const std::size_t root =
      align8(24 + 8 + sizeof(IndexRoot) + sizeof(IndexHeader) + total + sizeof(IndexEntry));
  return rest + root <= packer_.capacity() ? 0 : IndexShape(sizes).blocks();
}

void Plan::plan_folders() {
  tree::each_folder_ahead(
      tree_, [this](FileTree::Id id) { return index_blocks(id); },
      [this](FileTree::Id id, std::size_t blocks) {
        if (blocks > 0) folders_[id].blocks = blocks;
      });
}

void Plan::plan_moves() {
  const std::uint64_t spc = format_.cluster_sectors;
  for (FileTree::Id id = 1; id < tree_.size(); ++id) {
    if (tree_.is_directory(id)) continue;
    std::uint64_t left = div_up(tree_.bytes(id), cluster_bytes_);
    for (const SectorRange& e : tree_.extents(id)) {
      const std::uint64_t first = e.first / spc;
      const std::uint64_t count = std::min(left, e.count / spc);
      left -= count;
      for (std::uint64_t c = first; c < std::min(first + count, boot_clusters()); ++c)
        moves_.push_back({c, 0});
      for (std::uint64_t c = std::max(first, clusters_); c < first + count; ++c)
        moves_.push_back({c, 0});
    }
  }
  std::sort(moves_.begin(), moves_.end(),
            [](const Move& a, const Move& b) { return a.from < b.from; });
}

Runs Plan::contents_of(FileTree::Id id) const {
  Runs out;
  const std::uint64_t spc = format_.cluster_sectors;
  std::uint64_t left = div_up(tree_.bytes(id), cluster_bytes_);
  for (const SectorRange& e : tree_.extents(id)) {
    std::uint64_t at = e.first / spc;
    const std::uint64_t end = at + std::min(left, e.count / spc);
    left -= end - at;
    auto move = std::lower_bound(moves_.begin(), moves_.end(), at,
                                 [](const Move& m, std::uint64_t c) { return m.from < c; });
    for (; move != moves_.end() && move->from < end; ++move) {
      add_run(out, {at, move->from - at});
      add_run(out, {move->to, 1});
      at = move->from + 1;
    }
    add_run(out, {at, end - at});
  }
  return out;
}

void Plan::place(Stream s, std::uint64_t bytes, tree::FreeRuns& room) {
  set(s, bytes, room.take(div_up(bytes, cluster_bytes_)));
}

void Plan::place_in_few(Stream s, std::uint64_t bytes, tree::FreeRuns& room) {
  set(s, bytes, room.take_in_few(div_up(bytes, cluster_bytes_)));
}

void Plan::set(Stream s, std::uint64_t bytes, Runs runs) {
  runs_[static_cast<std::size_t>(s)] = std::move(runs);
  sizes_[static_cast<std::size_t>(s)] = bytes;
}

void Plan::lay_out(std::uint64_t log_bytes, tree::FreeRuns& room) {
  log_bytes_ = log_bytes;
  // $MFT takes what is in one piece, unless the others then find too little of it.
  for (const Order order : {Order::whole_mft, Order::few_first, Order::records_first}) {
    std::uint64_t mft_extensions = 0;
    std::uint64_t other_extensions = 0;
    do {
      room.rewind();
    } while (!attempt(room, order, mft_extensions, other_extensions));
    needed_ = room.used();
    missing_ = room.missing();
    taken_ = room.taken();
    in_many_.clear();
    for (const auto& [stream, record] : early_streams) {
      if (needed_ <= free_ && !packer_.fits(attributes_of(*this, system(record))))
        in_many_.push_back(stream);
    }
    if (fits()) break;
  }
}

// What is read before $MFT's runlist is known lies in one piece: $MFT's first records, by number
// from the boot sector's place, and the mirror. Those that must lie in few pieces follow. Records
// lie whole in a run, always.
void Plan::place_start(Order order, std::uint64_t mft_extensions, tree::FreeRuns& room) {
  const std::uint64_t record_bytes = packer_.unused(0).size();
  const std::uint64_t unit = std::max<std::uint64_t>(record_bytes / cluster_bytes_, 1);
  const std::uint64_t mft = records_ * record_bytes / cluster_bytes_;
  // $MFT's own extensions are read while only its beginning is known.
  const std::uint64_t least = mft_extensions == 0 ? 16 : first_extension_of_mft + mft_extensions;
  start_bytes_ = least * record_bytes;
  std::optional<Run> start;
  if (order == Order::whole_mft) start = room.take_whole(mft);
  for (const std::uint64_t records : {first_node_, least}) {
    if (!start)
      start = room.take_whole(div_up(records * record_bytes, unit * cluster_bytes_) * unit);
  }
  const std::uint64_t mirror_bytes = std::max(4 * record_bytes, cluster_bytes_);
  const std::optional<Run> mirror = room.take_whole(mirror_bytes / cluster_bytes_);
  split_start_ = !start || !mirror;
  set(Stream::mirror, mirror_bytes,
      mirror ? Runs{*mirror} : room.take(mirror_bytes / cluster_bytes_));
  const auto place_few = [&] {
    place_in_few(Stream::log, log_bytes_, room);
    place_in_few(Stream::bitmap, bitmap_bytes(clusters_), room);
    place_in_few(Stream::upcase, std::uint64_t{65536} * 2, room);
  };
  if (order != Order::records_first) place_few();
  Runs runs;
  if (start) runs.push_back(*start);
  for (const Run& run : room.take(mft - clusters_in(runs), unit)) add_run(runs, run);
  set(Stream::mft, records_ * record_bytes, std::move(runs));
  if (order == Order::records_first) place_few();
}

// True when the guesses held: as many extension records, at most, as were counted on.
bool Plan::attempt(tree::FreeRuns& room, Order order, std::uint64_t& mft_extensions,
                   std::uint64_t& other_extensions) {
  extended_.clear();
  const std::uint64_t record_bytes = packer_.unused(0).size();
  first_node_ = std::max(default_first_node, first_extension_of_mft + mft_extensions);
  const std::uint64_t first_other = first_node_ + tree_.size() - 1;
  const std::uint64_t mft_clusters =
      div_up((first_other + other_extensions) * record_bytes, cluster_bytes_);
  records_ = mft_clusters * cluster_bytes_ / record_bytes;

  place_start(order, mft_extensions, room);
  place(Stream::mft_bitmap, div_up<std::uint64_t>(records_, 64) * 8, room);
  place(Stream::attr_def, std::uint64_t{16} * 160, room);
  place(Stream::security, security_.sds.size(), room);
  for (auto& [id, folder] : folders_)
    folder.runs = room.take(div_up(folder.blocks * index_block_bytes, cluster_bytes_));
  for (Move& move : moves_) move.to = room.take(1).front().lcn;

  std::uint64_t next = first_other;
  const auto plan_one = [&](Entity e) {
    if (!packer_.fits(attributes_of(*this, e))) next += make_extended(e, next, room);
  };
  for (std::uint32_t r = 1; r < first_extension_of_mft; ++r) {
    const bool apart = r == record_root || is_read_early(r) || (r >= 12 && r < first_user_record);
    if (!apart) plan_one(system(r));
  }
  for (FileTree::Id id = 0; id < tree_.size(); ++id) {
    // Only a long runlist makes a record overflow: what lies in four pieces always fits.
    const bool short_list = tree_.is_directory(id) ? folders_.find(id) == folders_.end()
                                                   : tree_.extents(id).size() <= 2;
    if (!short_list) plan_one(id);
  }
  std::uint64_t mft = 0;
  if (!packer_.fits(attributes_of(*this, system(record_mft))))
    mft = make_extended(system(record_mft), first_extension_of_mft, room);

  const bool held = mft <= mft_extensions && next - first_other <= other_extensions;
  mft_extensions = std::max(mft_extensions, mft);
  other_extensions = std::max(other_extensions, next - first_other);
  return held;
}

// The list's own runs take room in the base record, and so decide what else is there.
std::size_t Plan::make_extended(Entity e, std::uint64_t first_extension, tree::FreeRuns& room) {
  const std::vector<Attribute> attributes = attributes_of(*this, e);
  const RecordHead head = head_of(*this, e);
  Extended file;
  file.first_extension = first_extension;
  file.list = room.take(1);
  while (true) {
    const PackedFile packed =
        packer_.pack(head, attributes, file.list, new_extensions(first_extension));
    const std::uint64_t held = clusters_in(file.list) * cluster_bytes_;
    file.extensions = packed.records.size() - 1;
    if (packed.list.size() <= held) break;
    for (const Run& run : room.take(div_up(packed.list.size() - held, cluster_bytes_)))
      add_run(file.list, run);
  }
  extended_[e] = file;
  return file.extensions;
}

Runs Plan::used() const {
  // Counted first: this is one item a file, and growing would hold it twice.
  std::size_t pieces = taken_.size() + 1;
  for (FileTree::Id id = 1; id < tree_.size(); ++id) pieces += tree_.extents(id).size();
  Runs all;
  all.reserve(pieces + 2 * moves_.size());
  all.insert(all.end(), taken_.begin(), taken_.end());
  all.push_back({0, boot_clusters()});
  for (const Run& r : bad_runs()) all.push_back(r);
  for (FileTree::Id id = 1; id < tree_.size(); ++id) {
    if (tree_.is_directory(id)) continue;
    for (const Run& r : contents_of(id)) all.push_back(r);
  }
  std::sort(all.begin(), all.end(), [](const Run& a, const Run& b) { return a.lcn < b.lcn; });
  Runs out;
  for (const Run& r : all) add_run(out, r);
  return out;
}

}  // namespace nuvrat::ntfs
