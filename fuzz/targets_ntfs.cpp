// NTFS: whole volumes as scripts, small damage to a good one, and each structure by itself.

#include <algorithm>

#include "fuzz.h"
#include "ntfs/boot.h"
#include "ntfs/edit.h"
#include "ntfs/fixup.h"
#include "ntfs/lznt1.h"
#include "ntfs/runs.h"
#include "ntfs/volume.h"

namespace fuzz {

using namespace nuvrat;

namespace {

std::vector<Bytes> ntfs_seeds() {
  return {script_of(*ntfs_volume(), true)};
}

// A good NTFS volume of which one part is the input: record, index block, boot sector.
const MemoryDevice& good_ntfs() {
  static const std::unique_ptr<MemoryDevice> disk = ntfs_volume();
  return *disk;
}

std::uint64_t mft_of(const MemoryDevice& disk) {
  const Bytes boot = disk.read(0);
  std::uint64_t lcn = 0;
  for (unsigned i = 8; i > 0; --i) lcn = lcn << 8 | boot[0x30 + i - 1];
  return lcn * boot[13];
}

// First byte: which record; the rest is laid over it.
void ntfs_record(ByteView input) {
  if (input.empty()) return;
  const auto disk = good_ntfs().clone();
  const std::uint64_t lba = mft_of(*disk) + std::uint64_t{input[0]} % 72 * 2;
  Bytes record = disk->read(lba, 2);
  const std::size_t n = std::min<std::size_t>(input.size() - 1, record.size());
  std::copy_n(input.begin() + 1, n, record.begin());
  mend_record(record);
  disk->write(lba, record);
  read_everything(*disk);
}

std::vector<Bytes> ntfs_record_seeds() {
  std::vector<Bytes> out;
  const MemoryDevice& disk = good_ntfs();
  for (const unsigned which : {0u, 3u, 5u, 6u, 9u, 64u, 65u, 66u, 67u}) {
    Bytes seed{static_cast<std::uint8_t>(which)};
    const Bytes record = disk.read(mft_of(disk) + which * 2, 2);
    seed.insert(seed.end(), record.begin(), record.end());
    out.push_back(seed);
  }
  return out;
}

void ntfs_damage(ByteView input) {
  static const std::vector<std::uint64_t> sectors = structures_of(good_ntfs());
  const auto disk = good_ntfs().clone();
  damage(*disk, sectors, input);
  read_everything(*disk);
}

std::vector<Bytes> damage_seeds() {
  return {{1, 0, 20, 0, 3}, {0, 0, 13, 0, 2, 9, 0, 60, 0, 255, 30, 0, 4, 1, 128}};
}

Bytes encoded(const tree::Runs& list) {
  Bytes out;
  std::uint64_t previous = 0;
  for (const tree::Run& run : list) ntfs::encode_run(run, previous, out);
  out.push_back(0);
  if (out.size() != ntfs::encoded_bytes(list))
    broken("a runlist has another length than it was to have");
  return out;
}

void runs(ByteView input) {
  constexpr std::uint64_t most = std::uint64_t{1} << 50;  // clusters in holes
  tree::Runs out;
  expect_answer([&] {
    ntfs::decode_runs(input, 1u << 20, most, out);
    std::uint64_t total = 0;
    for (const tree::Run& r : out) {
      if (r.lcn != tree::Run::hole && (r.lcn >= 1u << 20 || r.count > (1u << 20) - r.lcn))
        broken("a run leaves the volume");
      if (r.count == 0 || total + r.count < total) broken("a run of no length, or too many");
      total += r.count;
    }
    tree::Runs again;  // what was read can be written, and reads as the same
    ntfs::decode_runs(encoded(out), 1u << 20, most, again);
    if (tree::clusters_in(again) != tree::clusters_in(out))
      broken("runs differ after a round trip");
  });
}

std::vector<Bytes> runs_seeds() {
  return {encoded({{100, 5}, {90, 1}, {tree::Run::hole, 16}, {5000, 300}}), {0x11, 1, 1, 0}};
}

void lznt1(ByteView input) {
  Bytes out(65536);
  (void)ntfs::unpack_lznt1(input, out);
}

std::vector<Bytes> lznt1_seeds() {
  return {{0x03, 0xB0, 0x02, 0x00, 0xFC, 0x0F, 0x05, 0xB0, 0x08, 'a', 'b', 'c', 0xFA, 0x2F}};
}

void fixup(ByteView input) {
  Bytes record(input.begin(), input.end());
  if (!ntfs::unprotect(record)) return;
}

std::vector<Bytes> fixup_seeds() {
  return {good_ntfs().read(mft_of(good_ntfs()), 2)};
}

void ntfs_boot(ByteView input) {
  Bytes sector(input.begin(), input.end());
  sector.resize(512);
  std::string fault;
  const auto g = ntfs::parse_boot(sector, fault);
  if (!g) {
    if (fault.empty()) broken("a boot sector is refused without a reason");
    return;
  }
  if (g->cluster_bytes() == 0 || g->record_bytes == 0 || g->index_bytes == 0 || g->clusters() == 0)
    broken("a boot sector of nothing is taken");
  if (g->mft_lcn >= g->clusters()) broken("$MFT would begin behind the volume's end");
}

std::vector<Bytes> ntfs_boot_seeds() {
  return {good_ntfs().read(0)};
}

// Puts bytes in front of a record's first attribute that comes behind `type`.
void insert_attribute(MemoryDevice& disk, std::uint64_t record, std::uint32_t type, Bytes with) {
  const std::uint64_t lba = mft_of(disk) + record * 2;
  Bytes bytes = disk.read(lba, 2);
  std::size_t at = little(bytes, 20, 2);
  while (at + 8 < bytes.size() && little(bytes, at, 4) < type) at += little(bytes, at + 4, 4);
  const std::size_t used = little(bytes, 24, 4);
  with.resize(std::min<std::size_t>(with.size(), bytes.size() - used));
  with.resize(with.size() / 8 * 8);
  bytes.insert(bytes.begin() + static_cast<std::ptrdiff_t>(at), with.begin(), with.end());
  bytes.resize(1024);
  put(bytes, 24, used + with.size(), 4);
  put(bytes, 40, 40, 2);
  mend_record(bytes);
  disk.write(lba, bytes);
}

Bytes resident(std::uint32_t type, const Bytes& value) {
  Bytes out((24 + value.size() + 7) / 8 * 8);
  put(out, 0, type, 4);
  put(out, 4, out.size(), 4);
  put(out, 14, 30, 2);
  put(out, 16, value.size(), 4);
  put(out, 20, 24, 2);
  std::copy(value.begin(), value.end(), out.begin() + 24);
  return out;
}

// Six bytes an entry of a file's ATTRIBUTE_LIST: type, length, first VCN, record, id, and whether
// that record says that it belongs to the file.
void ntfs_list(ByteView input) {
  constexpr std::uint64_t file = 66;
  const auto disk = good_ntfs().clone();
  Bytes list;
  for (std::size_t i = 0; i + 6 <= input.size() && list.size() < 400; i += 6) {
    const std::size_t at = list.size();
    const std::uint64_t record = 64 + input[i + 3] % 8;
    list.resize(at + 32);
    put(list, at, std::uint32_t{input[i]} % 16 * 16, 4);
    put(list, at + 4, input[i + 1], 2);
    put(list, at + 8, input[i + 2], 8);
    put(list, at + 16, record | std::uint64_t{1} << 48, 8);
    put(list, at + 24, input[i + 4], 2);
    if (input[i + 5] % 2 == 0 || record == file) continue;
    const std::uint64_t lba = mft_of(*disk) + record * 2;
    Bytes extension = disk->read(lba, 2);
    put(extension, 32, file | std::uint64_t{1} << 48, 8);
    mend_record(extension);
    disk->write(lba, extension);
  }
  insert_attribute(*disk, file, 0x20, resident(0x20, list));
  read_everything(*disk);
}

std::vector<Bytes> ntfs_list_seeds() {
  return {{8, 32, 0, 3, 0, 1, 3, 32, 0, 2, 0, 0}, {8, 32, 0, 2, 2, 0}};
}

// The bytes stand over the blocks of a large folder's index: a block's number and an offset in it,
// then what stands there.
void ntfs_index(ByteView input) {
  static const std::unique_ptr<MemoryDevice> good = ntfs_volume(120);
  static const std::vector<std::uint64_t> blocks = [] {
    std::vector<std::uint64_t> out;
    for (std::uint64_t lba = good->next_data(0); lba < good->sectors();
         lba = good->next_data(lba + 1)) {
      if (little(good->read(lba), 0, 4) == 0x58444E49) out.push_back(lba);  // "INDX"
    }
    if (out.size() < 3) broken("the seed has no large index");
    return out;
  }();
  const auto disk = good->clone();
  for (std::size_t i = 0; i + 4 <= input.size(); i += 4) {
    const std::uint64_t lba = blocks[input[i] % blocks.size()];
    Bytes block = disk->read(lba, 8);
    block[little(input, i + 1, 2) % block.size()] = input[i + 3];
    mend_record(block);
    disk->write(lba, block);
  }
  read_everything(*disk);
}

std::vector<Bytes> ntfs_index_seeds() {
  return {{0, 0x48, 0, 9}, {1, 0x4C, 0, 1, 2, 0x50, 0, 200}, {2, 0x18, 0, 0, 2, 0x10, 0, 8}};
}

// First four bytes: clusters to be made free; then damage as in ntfs_damage. Where the volume was
// sound before the edit it is so after it, and nothing that was in use was written.
void ntfs_edit(ByteView input) {
  static const std::vector<std::uint64_t> sectors = structures_of(good_ntfs());
  if (input.size() < 4) return;
  const auto disk = good_ntfs().clone();
  damage(*disk, sectors, input.subspan(4));
  const auto clean = [](const Device& device) {
    const Findings findings = check_volume(device, utc());
    return std::all_of(findings.begin(), findings.end(),
                       [](const Finding& f) { return f.severity == Severity::note; });
  };
  expect_answer([&] {
    const ntfs::Geometry g = ntfs::Volume(*disk).geometry();
    ntfs::EditRequest request;
    const std::uint64_t clusters = g.clusters();
    const std::uint64_t first = little(input, 0, 2) % clusters;
    // Most make a range free; the others make the volume another size, or let it begin earlier.
    const std::uint64_t other = little(input, 2, 2) % 8;
    const std::uint64_t spc = g.cluster_sectors;
    std::uint64_t front = 0;  // sectors
    if (other == 1) {
      request.clusters = first + 1;
      request.avoid = {{clusters, 1}};
    } else if (other == 2) {
      request.clusters = clusters + first + 1;
      request.avoid = {{(disk->sectors() - 1) / spc, 1}};
    } else if (other == 3) {
      request.front = ntfs::boot_clusters(g) + first;
      front = request.front * spc;
    } else {
      request.vacate = {{first, 1 + little(input, 2, 2) % (clusters - first)}};
    }
    const bool sound = clean(*disk);
    const auto tried = ntfs::lay_out(*disk, request);
    if (!std::holds_alternative<ntfs::Edit>(tried)) return;
    const auto& edit = std::get<ntfs::Edit>(tried);
    const SectorSet owned = open_volume(*disk, utc())->owned();
    const std::uint64_t end = edit.clusters() * spc;
    MemoryDevice after(std::max(end + 1, front + disk->sectors()), disk->sector_size());
    for (std::uint64_t at = 0; at < disk->sectors(); ++at) after.write(front + at, disk->read(at));
    edit.write({[&](std::uint64_t sector, ByteView data) {
                  const std::uint64_t count = data.size() / disk->sector_size();
                  if (sound && sector >= front && owned.first_overlap({sector - front, count}))
                    broken("an edit writes over what is in use");
                  after.write(sector, data);
                },
                [](std::string_view) {}});
    Bytes boot = disk->read(0);
    const bool resized = edit.clusters() != clusters;
    for (unsigned i = 0; i < 8; ++i) {
      boot[0x30 + i] = static_cast<std::uint8_t>(edit.mft_lcn() >> 8 * i);
      boot[0x38 + i] = static_cast<std::uint8_t>(edit.mirror_lcn() >> 8 * i);
      if (resized) boot[0x28 + i] = static_cast<std::uint8_t>(end >> 8 * i);
    }
    after.write(0, boot);
    const std::uint64_t last = resized ? end : disk->sectors() - 1;
    after.write(last, boot);
    const Window volume(after, {0, last + 1});
    if (sound && !clean(volume)) broken("an edit leaves a volume with broken rules");
  });
}

std::vector<Bytes> ntfs_edit_seeds() {
  return {{16, 0, 200, 0},  {0, 1, 0, 4},   {20, 3, 1, 1, 1, 0, 20, 0, 3},
          {200, 9, 1, 0},   {90, 1, 10, 0}, {7, 0, 3, 0},
          {33, 1, 11, 0, 9}};
}

// The bytes are what $SDS holds; every second input has them in both copies.
void ntfs_security(ByteView input) {
  static const std::uint64_t stream = [] {
    const MemoryDevice& disk = good_ntfs();
    const Bytes record = disk.read(mft_of(disk) + 18, 2);
    std::size_t at = little(record, 20, 2);
    while (little(record, at, 4) != 0x80) at += little(record, at + 4, 4);
    const std::size_t runs = at + little(record, at + 32, 2);
    const unsigned length = record[runs] & 15;
    const unsigned width = record[runs] >> 4;
    return little(record, runs + 1 + length, width) * disk.read(0)[13];
  }();
  const auto disk = good_ntfs().clone();
  Bytes bytes(input.begin(), input.end());
  const bool both = !bytes.empty() && bytes.back() % 2 == 0;
  bytes.resize(std::min<std::size_t>(4096, (bytes.size() / 512 + 1) * 512));
  disk->write(stream, bytes);
  if (both) disk->write(stream + 0x40000 / 512, bytes);
  read_everything(*disk);
}

std::vector<Bytes> ntfs_security_seeds() {
  Bytes out(20);
  put(out, 4, 0x100, 4);
  put(out, 16, 20, 4);
  return {out};
}

}  // namespace

std::vector<Target> ntfs_targets() {
  return {{"ntfs", volume, ntfs_seeds},
          {"ntfs_boot", ntfs_boot, ntfs_boot_seeds},
          {"ntfs_record", ntfs_record, ntfs_record_seeds},
          {"ntfs_list", ntfs_list, ntfs_list_seeds},
          {"ntfs_index", ntfs_index, ntfs_index_seeds},
          {"ntfs_edit", ntfs_edit, ntfs_edit_seeds},
          {"ntfs_security", ntfs_security, ntfs_security_seeds},
          {"ntfs_damage", ntfs_damage, damage_seeds},
          {"runs", runs, runs_seeds},
          {"lznt1", lznt1, lznt1_seeds},
          {"fixup", fixup, fixup_seeds}};
}

}  // namespace fuzz
