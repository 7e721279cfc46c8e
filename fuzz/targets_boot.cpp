// Registry hives: boot stores and drive letters, alone and on their disk.

#include "boot/store.h"
#include "fuzz.h"
#include "station_hives.h"
#include "system_disk.h"

namespace fuzz {

using namespace nuvrat;

namespace {

constexpr std::uint64_t boot_at = 1u << 20, system_at = 101u << 20;

// Put right, or nothing behind the header would ever be read.
void mend_hive_header(Bytes& hive) {
  for (std::size_t i = 0; i < 4; ++i) {
    hive[i] = static_cast<std::uint8_t>("regf"[i]);
    hive[8 + i] = hive[4 + i];
  }
  std::uint64_t sum = 0;
  for (std::size_t at = 0; at < 508; at += 4) sum ^= little(hive, at, 4);
  if (sum == 0) sum = 1;
  if (sum == 0xFFFFFFFF) sum = 0xFFFFFFFE;
  put(hive, 508, sum, 4);
}

Bytes mended_hive(ByteView input) {
  Bytes out(input.begin(), input.end());
  if (out.size() < 8192) out.resize(8192);
  put(out, 40, out.size() - 4096, 4);
  mend_hive_header(out);
  return out;
}

std::optional<boot::PartitionName> other_name(const boot::PartitionName& old) {
  boot::PartitionName out = old;
  if (old.gpt) return out;
  out.offset += 1u << 20;
  return old.signature == orrelune::system_disk_signature ? std::optional(out) : std::nullopt;
}

void hive(ByteView input) {
  const Bytes file = mended_hive(input);
  expect_answer([&] { (void)boot::read_store(file); });
  expect_answer([&] {
    boot::StoreChange change;
    change.new_name = other_name;
    if (input.size() % 2 == 0) change.way = input.size() % 4 == 0 ? BootWay::uefi : BootWay::legacy;
    const boot::ChangedStore changed = boot::change_store(file, change);
    (void)boot::read_store(changed.file);
  });
  expect_answer([&] {
    boot::PartitionName name;
    name.gpt = true;
    (void)boot::change_letters(file, other_name, {{'Q', name}});
  });
}

std::vector<Bytes> hive_seeds() {
  return {orrelune::make_hive(orrelune::boot_store(boot_at, system_at)),
          orrelune::make_hive(orrelune::system_hive({boot_at, system_at, 5})),
          orrelune::make_hive(orrelune::store_template())};
}

// A system disk, and the sectors that say how it boots: boot sectors, boot files, stores and hives.
struct Station {
  Station() : disk(orrelune::system_disk_sectors(plan, 512), 512) {
    orrelune::make_system_disk(disk, plan);
    sectors.push_back(0);
    for (const Partition& p : read_table(disk).layout.data_partitions()) {
      for (std::uint64_t i = 0; i < 16; ++i) sectors.push_back(p.start + i);
      const Window window(disk, p.range());
      const auto reader = open_volume(window, utc());
      const FileTree& tree = reader->tree();
      for (const char* path :
           {"Boot/BCD", "bootmgr", "Windows/System32/config/SYSTEM",
            "Windows/System32/config/SYSTEM.LOG1", "Windows/System32/config/BCD-Template",
            "Windows/System32/winload.efi", "Windows/Boot/EFI/bootmgfw.efi"}) {
        const FileTree::Id id = tree.find(path);
        if (id == FileTree::none) continue;
        for (const SectorRange& r : tree.extents(id)) {
          if (little(disk.read(p.start + r.first), 0, 4) == 0x66676572)
            heads.push_back(p.start + r.first);
          for (std::uint64_t i = 0; i < r.count; ++i) sectors.push_back(p.start + r.first + i);
        }
      }
    }
  }
  static constexpr orrelune::SystemDisk plan{.boot = 40, .system = 44, .recovery = 10};
  MemoryDevice disk;
  std::vector<std::uint64_t> sectors, heads;  // heads: the first ones of hives ("regf")
};

// Damage to a system disk where it says how it boots, then what asks about that. First byte: which
// goals; second: whether hives get their header's checksum put right; then pieces of damage.
void station(ByteView input) {
  static const Station good;
  static const std::vector<const char*> asked[] = {{"table=gpt", "boot=uefi"},
                                                   {"p3.letter=Z"},
                                                   {"table=gpt"},
                                                   {"p3=gone", "p2.size=max"},
                                                   {"boot=legacy"},
                                                   {"p1=gone"},
                                                   {"p2=fat32"},
                                                   {"p3.active=yes"}};
  if (input.size() < 2) return;
  const auto disk = good.disk.clone();
  damage(*disk, good.sectors, input.subspan(2));
  for (const std::uint64_t lba : good.heads) {
    if (input[1] % 2 == 0) break;
    Bytes head = disk->read(lba, 16);
    mend_hive_header(head);
    disk->write(lba, head);
  }
  expect_answer([&] {
    std::vector<Goal> goals;
    for (const char* word : asked[input[0] % std::size(asked)]) goals.push_back(parse_goal(word));
    Random random(1);
    const Assessment a = assess(*disk, goals, utc(), random);
    (void)assessment_text(a, {});
    (void)survey_text(survey_disk(*disk, utc()), {});
    do_and_undo(*disk, a);
  });
}

std::vector<Bytes> station_seeds() {
  return {{0, 1}, {1, 1}, {2, 0}, {3, 1}, {0, 1, 60, 0, 0, 1, 7}, {1, 1, 200, 0, 40, 0, 1}};
}

}  // namespace

std::vector<Target> boot_targets() {
  return {{"hive", hive, hive_seeds}, {"station", station, station_seeds}};
}

}  // namespace fuzz
