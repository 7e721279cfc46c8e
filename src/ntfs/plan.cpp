#include "ntfs/plan.h"

#include <algorithm>

#include "base/ahead.h"

namespace nuvrat {
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
constexpr std::uint64_t least_log = mebi / 4;

}  // namespace

// The free extents, the largest first, handed out from the front.
class NtfsPlan::Tape {
 public:
  Tape(const SectorSet& free, std::uint64_t cluster_sectors, std::uint64_t first,
       std::uint64_t clusters)
      : beyond_(clusters) {
    for (const SectorRange& r : free.ranges()) {
      const std::uint64_t begin = std::max(div_up(r.first, cluster_sectors), first);
      const std::uint64_t end = std::min(r.end() / cluster_sectors, clusters);
      if (begin < end) extents_.push_back({begin, end - begin});
    }
    std::stable_sort(extents_.begin(), extents_.end(),
                     [](const Run& a, const Run& b) { return a.count > b.count; });
  }

  [[nodiscard]] std::uint64_t capacity() const { return clusters_in(extents_); }
  [[nodiscard]] std::uint64_t used() const { return used_; }
  [[nodiscard]] const Runs& taken() const { return taken_; }
  void rewind() {
    at_ = offset_ = used_ = 0;
    taken_.clear();
  }

  /// Where nothing is left, clusters beyond the volume: the plan then says how many are missing.
  Runs take(std::uint64_t count) {
    Runs out;
    while (count > 0) {
      Run run{beyond_ + used_, count};
      if (at_ < extents_.size()) {
        run.lcn = extents_[at_].lcn + offset_;
        run.count = std::min(count, extents_[at_].count - offset_);
        offset_ += run.count;
        if (offset_ == extents_[at_].count) {
          ++at_;
          offset_ = 0;
        }
      }
      used_ += run.count;
      count -= run.count;
      add_run(out, run);
      add_run(taken_, run);
    }
    return out;
  }

 private:
  Runs extents_;
  Runs taken_;
  std::uint64_t beyond_;
  std::size_t at_ = 0;
  std::uint64_t offset_ = 0;
  std::uint64_t used_ = 0;
};

NtfsPlan::NtfsPlan(const FileTree& tree, const NtfsFormat& format)
    : tree_(tree),
      format_(format),
      cluster_bytes_(std::uint64_t{format.cluster_sectors} * format.sector_bytes),
      clusters_((format.sectors - 1) / format.cluster_sectors),
      packer_(std::max(1024u, format.sector_bytes), cluster_bytes_),
      security_(make_security()) {
  plan_folders();
  plan_moves();
  const std::uint64_t bytes = format_.sectors * format_.sector_bytes;
  std::uint64_t log = usual_log(bytes);
  for (lay_out(log); !fits() && log > least_log; lay_out(log)) log /= 2;
}

std::uint64_t NtfsPlan::boot_clusters() const {
  return div_up<std::uint64_t>(8192, cluster_bytes_);
}

std::uint64_t NtfsPlan::index_unit() const {
  return cluster_bytes_ <= index_block_bytes ? cluster_bytes_ : 512;
}

std::uint64_t NtfsPlan::record_of_node(FileTree::Id id) const {
  return id == FileTree::root ? std::uint64_t{record_root} : first_node_ + id - 1;
}

std::uint64_t NtfsPlan::reference_of(Entity e) const {
  const std::uint64_t record = is_system(e) ? e - system(0) : record_of_node(e);
  return file_reference(record, record > 0 && record < 16 ? static_cast<std::uint16_t>(record) : 1);
}

std::vector<Run> NtfsPlan::bad_runs() const {
  SectorSet bad;
  for (const SectorRange& r : format_.bad) bad.add(r);
  Runs out;
  for (const SectorRange& r : bad.ranges()) {
    const std::uint64_t first = r.first / format_.cluster_sectors;
    const std::uint64_t end =
        std::min(div_up<std::uint64_t>(r.end(), format_.cluster_sectors), clusters_);
    if (first < end) add_run(out, {first, end - first});
  }
  return out;
}

// How many blocks a folder's index needs; 0 where its record holds the entries itself.
std::size_t NtfsPlan::index_blocks(FileTree::Id id) const {
  std::vector<std::uint32_t> sizes;
  std::size_t total = 0;
  for (const NameOf& n : sorted_names(*this, id)) {
    sizes.push_back(name_entry_bytes(*this, n));
    total += sizes.back();
  }
  std::size_t rest = 0;
  for (const Attribute& a : head_attributes_of(*this, id)) rest += a.bytes();
  const std::size_t root =
      (24 + 8 + sizeof(IndexRoot) + sizeof(IndexHeader) + total + sizeof(IndexEntry) + 7) / 8 * 8;
  return rest + root <= packer_.capacity() ? 0 : IndexShape(sizes).blocks();
}

void NtfsPlan::plan_folders() {
  constexpr std::size_t batch = 8192;  // nodes
  make_ahead(
      div_up(tree_.size(), batch),
      [this](std::size_t i) {
        std::vector<std::pair<FileTree::Id, std::size_t>> out;
        const std::size_t end = std::min(tree_.size(), (i + 1) * batch);
        for (auto id = static_cast<FileTree::Id>(i * batch); id < end; ++id) {
          if (tree_.is_directory(id)) out.emplace_back(id, index_blocks(id));
        }
        return out;
      },
      [this](const auto& made) {
        for (const auto& [id, blocks] : made) {
          if (blocks > 0) folders_[id].blocks = blocks;
        }
      });
}

void NtfsPlan::plan_moves() {
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

Runs NtfsPlan::contents_of(FileTree::Id id) const {
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

void NtfsPlan::place(Stream s, std::uint64_t bytes, Tape& tape) {
  runs_[static_cast<std::size_t>(s)] = tape.take(div_up(bytes, cluster_bytes_));
  sizes_[static_cast<std::size_t>(s)] = bytes;
}

void NtfsPlan::lay_out(std::uint64_t log_bytes) {
  log_bytes_ = log_bytes;
  Tape tape(format_.free, format_.cluster_sectors, boot_clusters(), clusters_);
  free_ = tape.capacity();
  std::uint64_t mft_extensions = 0;
  std::uint64_t other_extensions = 0;
  while (!attempt(tape, mft_extensions, other_extensions)) tape.rewind();
  needed_ = tape.used();
  taken_ = tape.taken();
  const std::uint64_t whole = div_up<std::uint64_t>(packer_.unused(0).size(), cluster_bytes_);
  const std::uint64_t start = runs(Stream::mft).front().count;
  split_start_ = needed_ <= free_ && start < whole;
  // Readers take no log whose record has extensions.
  log_in_pieces_ = needed_ <= free_ && !packer_.fits(attributes_of(*this, system(record_log)));
}

// True when the guesses held: as many extension records, at most, as were counted on.
bool NtfsPlan::attempt(Tape& tape, std::uint64_t& mft_extensions, std::uint64_t& other_extensions) {
  specials_.clear();
  const std::uint64_t record_bytes = packer_.unused(0).size();
  first_node_ = std::max(default_first_node, first_extension_of_mft + mft_extensions);
  const std::uint64_t first_other = first_node_ + tree_.size() - 1;
  const std::uint64_t mft_clusters =
      div_up((first_other + other_extensions) * record_bytes, cluster_bytes_);
  records_ = mft_clusters * cluster_bytes_ / record_bytes;

  place(Stream::log, log_bytes_, tape);  // first: it must lie in few pieces
  place(Stream::mft, records_ * record_bytes, tape);
  place(Stream::mft_bitmap, div_up<std::uint64_t>(records_, 64) * 8, tape);
  place(Stream::mirror, std::max(4 * record_bytes, cluster_bytes_), tape);
  place(Stream::attr_def, std::uint64_t{16} * 160, tape);
  place(Stream::bitmap, div_up<std::uint64_t>(clusters_, 64) * 8, tape);
  place(Stream::upcase, std::uint64_t{65536} * 2, tape);
  place(Stream::security, security_.sds.size(), tape);
  for (auto& [id, folder] : folders_)
    folder.runs = tape.take(div_up(folder.blocks * index_block_bytes, cluster_bytes_));
  for (Move& move : moves_) move.to = tape.take(1).front().lcn;

  std::uint64_t next = first_other;
  const auto plan_one = [&](Entity e) {
    if (!packer_.fits(attributes_of(*this, e))) next += make_special(e, next, tape);
  };
  for (std::uint32_t r = 1; r < first_extension_of_mft; ++r) {
    const bool apart = r == record_root || r == record_log || (r >= 12 && r < first_user_record);
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
    mft = make_special(system(record_mft), first_extension_of_mft, tape);

  const bool held = mft <= mft_extensions && next - first_other <= other_extensions;
  mft_extensions = std::max(mft_extensions, mft);
  other_extensions = std::max(other_extensions, next - first_other);
  return held;
}

// The list's own runs take room in the base record, and so decide what else stands there.
std::size_t NtfsPlan::make_special(Entity e, std::uint64_t first_extension, Tape& tape) {
  const std::vector<Attribute> attributes = attributes_of(*this, e);
  const RecordHead head = head_of(*this, e);
  Special special;
  special.first_extension = first_extension;
  special.list = tape.take(1);
  while (true) {
    const PackedFile packed = packer_.pack(head, attributes, special.list, first_extension);
    const std::uint64_t room = clusters_in(special.list) * cluster_bytes_;
    special.extensions = packed.records.size() - 1;
    if (packed.list.size() <= room) break;
    for (const Run& run : tape.take(div_up(packed.list.size() - room, cluster_bytes_)))
      add_run(special.list, run);
  }
  specials_[e] = special;
  return special.extensions;
}

Runs NtfsPlan::used() const {
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

}  // namespace nuvrat
