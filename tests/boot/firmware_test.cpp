// System disks: firmware in an emulator starts them before, after, and after the way back; the boot
// store and drive letters say what they must.

#include <cstdlib>
#include <filesystem>
#include <functional>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>

#include "disk_bytes.h"
#include "ntfs_bytes.h"
#include "orrelune.h"
#include "support.h"
#include "system_disk.h"

using namespace nuvrat;

namespace {

// What the stand-ins say on the serial line when this firmware starts the image.
std::string said(const std::filesystem::path& image, BootWay way, std::uint32_t sector_size = 512) {
  static const bool judged = support::run("command -v qemu-system-x86_64").status == 0;
  if (!judged) return std::getenv("CI") == nullptr ? "nothing to judge with" : "";
  const std::string disk =
      fmt::format("-drive if=none,id=d,file={},format=raw,snapshot=on", image.string());
  const std::string machine =
      way == BootWay::legacy
          ? fmt::format(
                "-machine pc,accel=tcg,graphics=off -m 64 -boot c "
                "-drive file={},format=raw,snapshot=on",
                image.string())
          : fmt::format(
                "-machine q35,accel=tcg -m 256 "
                "-drive if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd "
                "-drive if=pflash,format=raw,snapshot=on,file=/usr/share/OVMF/OVMF_VARS_4M.fd {} "
                "-device virtio-blk-pci,drive=d,bootindex=1,logical_block_size={},"
                "physical_block_size={}",
                disk, sector_size, sector_size);
  const std::string out = image.string() + ".said";
  (void)support::run(fmt::format(
      ": >{1}\n"
      "timeout 120 qemu-system-x86_64 {0} -display none -net none -monitor none "
      "-serial file:{1} </dev/null >/dev/null 2>&1 & machine=$!\n"
      "n=0\n"
      "while [ $n -lt 1000 ] && kill -0 $machine && "
      "! grep -aqE 'STAND-IN: (confirmed|its loader isn|its device isn|there is no|BOOTMGR)' {1}; "
      "do sleep 0.1; n=$((n + 1)); done\n"
      "kill $machine; wait $machine",
      machine, out));
  return support::run("grep -a STAND-IN " + out + " | tr -d '\\r'").out;
}

// Whether the stand-in confirmed that the store's entry is the system, on that partition.
void must_start(const std::filesystem::path& image, BootWay way, unsigned system,
                std::uint32_t sector_size = 512,
                const std::string& entry = "Orrelune tide station") {
  const std::string words = said(image, way, sector_size);
  if (words == "nothing to judge with") return;
  INFO(words);
  CHECK(words.find(way == BootWay::uefi
                       ? "UEFI firmware started \\EFI\\"
                       : "legacy firmware started \\bootmgr") != std::string::npos);
  CHECK(words.find("the store starts '" + entry + "'") != std::string::npos);
  CHECK(words.find(fmt::format("its device is partition {},", system)) != std::string::npos);
  CHECK(words.find(way == BootWay::uefi
                       ? "confirmed, its loader is there: \\Windows\\system32\\winload.efi."
                       : "confirmed, its loader is there: \\Windows\\system32\\winload.exe.") !=
        std::string::npos);
}

std::vector<Goal> goals_of(const std::string& words) {
  std::vector<Goal> out;
  for (std::size_t at = 0; at < words.size();) {
    const std::size_t end = std::min(words.find(' ', at), words.size());
    out.push_back(parse_goal(words.substr(at, end - at)));
    at = end + 1;
  }
  return out;
}

Assessment look(const Device& disk, const std::string& goals) {
  Random random(7);
  return assess(disk, goals_of(goals), support::utc(), random);
}

// Does it; what the assessment said.
Assessment rewrite(Device& disk, const std::string& goals, const std::filesystem::path& folder) {
  const Assessment a = look(disk, goals);
  for (const Obstacle& o : a.obstacles) MESSAGE(std::string(name_of(o)) << ": " << o.text);
  REQUIRE(a.in_reach());
  QuietProgress quiet;
  const JobResult result = run_job(disk, a, support::case_in_memory(folder), quiet);
  for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
  for (const Finding& f : result.findings_after)
    MESSAGE(std::string(name_of(f.code)) << ": " << f.text);
  REQUIRE(result.sound());
  return a;
}

void revert(Device& disk, const std::filesystem::path& folder) {
  QuietProgress quiet;
  (void)revert_case(disk, load_case(folder), {}, quiet);
}

bool consents_to(const Assessment& a, const std::string& code) {
  return std::any_of(a.consents.begin(), a.consents.end(),
                     [&code](const Consent& c) { return name_of(c.code) == code; });
}

std::unique_ptr<MemoryDevice> system_disk(const orrelune::SystemDisk& plan,
                                          std::uint32_t sector_size = 512) {
  auto disk = support::disk(orrelune::system_disk_sectors(plan, sector_size), sector_size);
  orrelune::make_system_disk(*disk, plan);
  return disk;
}

// A system disk as an image, which firmware can start from.
struct ImageDisk {
  explicit ImageDisk(const orrelune::SystemDisk& plan, std::uint32_t sector_size = 512) {
    create_image(image, orrelune::system_disk_sectors(plan, sector_size), sector_size, true);
    device = open_device(image, {true, sector_size});
    orrelune::make_system_disk(*device, plan);
  }
  support::Folder folder{support::Folder::Where::memory};
  std::filesystem::path image = folder / "disk.img";
  std::unique_ptr<Device> device;
};

constexpr orrelune::SystemDisk small{.boot = 40, .system = 44, .recovery = 10};

// The letters that the system's hive says, by the partition of this disk: "C2 R3".
Bytes file_of(const Device& disk, unsigned number, const std::string& path) {
  const Layout layout = read_table(disk).layout;
  const Window window(disk, layout.find(number)->range());
  return support::contents_of(*open_volume(window, support::utc()), path);
}

// A file of an NTFS volume gets a DATA attribute of the form that sparse files have, with all the
// clusters that it has.
void make_sparse(Device& disk, SectorRange volume, const std::u16string& name) {
  auto bytes = std::make_unique<MemoryDevice>(volume.count, disk.sector_size());
  disk_bytes::copy_data(Window(disk, volume), *bytes);
  const support::NtfsBytes v(std::move(bytes));
  const std::uint64_t number = v.record_of(name);
  const std::size_t at = v.attribute(number, 0x80);
  const Bytes record = v.record(number);
  const auto begin = record.begin() + static_cast<long>(at);
  const std::size_t length = support::little(record, at + 4, 4);
  Bytes data(begin, begin + static_cast<long>(length));
  const Bytes allocated(begin + 40, begin + 48);
  data.insert(data.begin() + 64, allocated.begin(), allocated.end());
  support::put(data, 4, data.size(), 4);
  support::put(data, 12, 0x8000, 2);
  support::put(data, 32, 72, 2);
  support::put(data, 34, 4, 1);
  v.replace(number, at, length, data);
  disk.write(volume.first, v.disk->read(0, volume.count));
}

}  // namespace

TEST_CASE(
    "boot: firmware starts a disk before, as UEFI, as legacy again, and after every way back") {
  struct Case {
    const char* name;
    orrelune::SystemDisk plan;
    const char* by;   // the consent that says where the EFI system partition comes from; or none
    unsigned efi;     // its number
    unsigned legacy;  // what is active when it is legacy again
    unsigned system = 2;
  };
  const Case cases[] = {
      {"in a gap", {100, 300, 300, 60, 0, false}, "boot-files", 4, 1},
      {"in the old boot partition's place", {100, 300, 0, 60, 0, false}, "gone", 1, 2},
      {"after shrinking", {100, 600, 0, 60, 0, true}, "shorter", 4, 1},
      {"boot files on the system's volume", {0, 500, 0, 60, 0, true}, "shorter", 3, 1, 1},
  };
  for (const Case& c : cases) {
    CAPTURE(c.name);
    const ImageDisk disk(c.plan);
    const auto& [folder, image, device] = disk;
    const std::string before = support::fingerprint(image);
    must_start(image, BootWay::legacy, c.system);

    const Assessment uefi = rewrite(*device, "table=gpt boot=uefi", folder / "uefi");
    CHECK(consents_to(uefi, c.by));
    CHECK(consents_to(uefi, "letters"));
    REQUIRE(uefi.boot);
    CHECK(uefi.boot->boot_files == c.efi);
    CHECK(uefi.boot->system == c.system);
    CHECK(uefi.boot->machine == Machine::x86_64);
    CHECK(uefi.boot->spare == (std::string(c.name) == "in a gap" ? 1 : 0));
    CHECK(survey_disk(*device, support::utc()).systems.boots_by() == BootWay::uefi);
    must_start(image, BootWay::uefi, c.system);
    const std::string as_uefi = support::fingerprint(image);

    CHECK(look(*device, "boot=uefi esp=100MiB").obstacles.at(0).code == ObstacleCode::esp_there);
    const Assessment legacy = rewrite(*device, "table=mbr boot=legacy", folder / "legacy");
    CHECK(legacy.boot->boot_files == c.legacy);
    CHECK(survey_disk(*device, support::utc()).systems.boots_by() == BootWay::legacy);
    must_start(image, BootWay::legacy, c.system);

    // Once more: the EFI system partition is there, and gets a store for the new table.
    (void)rewrite(*device, "table=gpt boot=uefi", folder / "again");
    must_start(image, BootWay::uefi, c.system);

    revert(*device, folder / "again");
    must_start(image, BootWay::legacy, c.system);
    revert(*device, folder / "legacy");
    CHECK(support::fingerprint(image) == as_uefi);
    revert(*device, folder / "uefi");
    CHECK(support::fingerprint(image) == before);
  }
}

TEST_CASE("boot: UEFI starts a disk of 4096-byte sectors") {
  const orrelune::SystemDisk plan{};
  const ImageDisk disk(plan, 4096);
  const auto& [folder, image, device] = disk;
  const std::string before = support::fingerprint(image);
  (void)rewrite(*device, "table=gpt boot=uefi", folder / "uefi");
  must_start(image, BootWay::uefi, 2, 4096);
  // Legacy firmware doesn't read such sectors.
  const Assessment no = look(*device, "table=mbr boot=legacy");
  REQUIRE_FALSE(no.in_reach());
  CHECK(no.obstacles[0].code == ObstacleCode::boot_sectors);
  revert(*device, folder / "uefi");
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE("boot: of several systems each keeps its letters, and the store starts each") {
  const orrelune::SystemDisk plan{.system = 100, .gap = 300, .second = 100};
  const ImageDisk disk(plan);
  const auto& [folder, image, device] = disk;
  const std::string before = support::fingerprint(image);
  CHECK(survey_disk(*device, support::utc()).systems.systems.size() == 2);
  const Assessment a = rewrite(*device, "table=gpt boot=uefi", folder / "uefi");
  CHECK(std::count_if(a.consents.begin(), a.consents.end(),
                      [](const Consent& c) { return c.code == ConsentCode::letters; }) == 2);
  must_start(image, BootWay::uefi, 2);
  const Layout layout = read_table(*device).layout;
  const auto named = [&layout](const Bytes& hive, unsigned number) {
    const auto& id = layout.find(number)->unique_id.on_disk();
    std::size_t times = 0;
    for (auto at = hive.begin(); at != hive.end(); ++times) {
      at = std::search(at, hive.end(), id.begin(), id.end());
      if (at == hive.end()) break;
      ++at;
    }
    return times;
  };
  for (const unsigned system : {2u, 3u}) {
    CAPTURE(system);
    const Bytes hive = file_of(*device, system, "Windows/System32/config/SYSTEM");
    // A letter and a volume's name of each; what was freed in the hive may still hold some.
    CHECK(named(hive, 2) >= 2);
    CHECK(named(hive, 3) >= 2);
  }
  REQUIRE(a.boot);
  const Bytes store = file_of(*device, a.boot->boot_files, "EFI/Microsoft/Boot/BCD");
  CHECK(named(store, 2) >= 3);  // device and system of its entry, and what wakes it
  CHECK(named(store, 3) >= 2);
  revert(*device, folder / "uefi");
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE("boot: where no store is left, one is made out of the system's template, and starts it") {
  const orrelune::SystemDisk plan{.system = 300, .gap = 300, .store = false};
  const ImageDisk disk(plan);
  const auto& [folder, image, device] = disk;
  CHECK_FALSE(survey_disk(*device, support::utc()).systems.boots_by());
  const Assessment legacy = rewrite(*device, "boot=legacy", folder / "legacy");
  CHECK(consents_to(legacy, "store-new"));
  must_start(image, BootWay::legacy, 2, 512, "Orrelune station, anew");
  revert(*device, folder / "legacy");
  const Assessment uefi = rewrite(*device, "table=gpt boot=uefi", folder / "uefi");
  CHECK(consents_to(uefi, "store-new"));
  must_start(image, BootWay::uefi, 2, 512, "Orrelune station, anew");
}

TEST_CASE("boot: boot files and store go to a FAT partition whose boot sector loads them") {
  const auto disk = system_disk({40, 44, 300, 10, 2, false});
  const support::Folder folder(support::Folder::Where::memory);
  (void)rewrite(*disk, "p1=fat32", folder / "fat");
  // Nuvrat doesn't write such a loader; what stands for it only has its name.
  const Partition p = *read_table(*disk).layout.find(1);
  Bytes first = disk->read(p.start);
  const std::string_view name = "BOOTMGR";
  std::fill(first.begin() + 0x5A, first.begin() + 510, std::uint8_t{0xC7});
  std::copy(name.begin(), name.end(), first.begin() + 0x180);
  for (const std::uint64_t at : {0, 6}) disk->write(p.start + at, first);
  CHECK(survey_disk(*disk, support::utc()).systems.boots_by() == BootWay::legacy);
  // The store there follows the table,
  const Bytes was = file_of(*disk, 1, "Boot/BCD");
  const Assessment follows = rewrite(*disk, "table=gpt", folder / "table");
  CHECK(consents_to(follows, "store"));
  CHECK(file_of(*disk, 1, "Boot/BCD") != was);
  revert(*disk, folder / "table");
  CHECK(file_of(*disk, 1, "Boot/BCD") == was);
  // and is made anew on the way back from UEFI.
  (void)rewrite(*disk, "table=gpt boot=uefi", folder / "uefi");
  const Assessment legacy = rewrite(*disk, "table=mbr boot=legacy", folder / "legacy");
  REQUIRE(legacy.boot);
  CHECK(legacy.boot->boot_files == 1);
  CHECK(survey_disk(*disk, support::utc()).systems.boots_by() == BootWay::legacy);
  const Bytes now = disk->read(p.start);
  CHECK(std::equal(first.begin() + 0x5A, first.end(), now.begin() + 0x5A));
}

namespace {

// Wherever these bytes are in p1, others of the same length.
void replace_in_p1(Device& disk, ByteView from, ByteView to) {
  const SectorRange place = read_table(disk).layout.find(1)->range();
  Bytes all = disk.read(place.first, place.count);
  std::size_t found = 0;
  for (auto at = all.begin();
       (at = std::search(at, all.end(), from.begin(), from.end())) != all.end(); ++found)
    at = std::copy(to.begin(), to.end(), at);
  REQUIRE(found > 0);
  disk.write(place.first, all);
}

// As a hive has it.
Bytes wide(const std::string& text) {
  Bytes out;
  for (const char c : text) out.insert(out.end(), {static_cast<std::uint8_t>(c), 0});
  return out;
}

}  // namespace

TEST_CASE("boot: a disk whose way to its system is broken isn't said to start, and can be mended") {
  using Break = void (*)(Device&);
  const std::vector<std::pair<std::string, Break>> ways = {
      {"the MBR has no boot code",
       [](Device& disk) {
         Bytes mbr = disk.read(0);
         std::fill_n(mbr.begin(), 440, std::uint8_t{0});
         disk.write(0, mbr);
       }},
      {"not a program for legacy firmware",
       [](Device& disk) { replace_in_p1(disk, wide("winload.exe"), wide("winload.efi")); }}};
  for (const auto& way : ways) {
    CAPTURE(way.first);
    const ImageDisk disk(small);
    const support::Folder folder(support::Folder::Where::memory);
    way.second(*disk.device);
    const Systems systems = survey_disk(*disk.device, support::utc()).systems;
    CHECK_FALSE(systems.boots_by());
    REQUIRE(systems.boot_files.size() == 1);
    CHECK(systems.boot_files[0].missing.find(way.first) != std::string::npos);
    const Assessment a = rewrite(*disk.device, "boot=legacy", folder / "mended");
    CHECK(consents_to(a, "start-code") == (way.first == ways[0].first));
    CHECK(survey_disk(*disk.device, support::utc()).systems.boots_by() == BootWay::legacy);
    must_start(disk.image, BootWay::legacy, 2);
  }
}

TEST_CASE(
    "boot: a store that starts a system of another disk first is taken over, and it is said") {
  const auto disk = system_disk({40, 44, 300, 10, 2, false});
  Bytes signature(4), other(4, 0x5B);
  disk_bytes::put(signature, 0, orrelune::system_disk_signature, 4);
  replace_in_p1(*disk, signature, other);
  const Systems systems = survey_disk(*disk, support::utc()).systems;
  CHECK_FALSE(systems.boots_by());
  CHECK(systems.boot_files.at(0).missing == "the boot store names no partition of this disk");
  const support::Folder folder(support::Folder::Where::memory);
  const Assessment a = rewrite(*disk, "table=gpt boot=uefi", folder / "uefi");
  CHECK(consents_to(a, "store-first"));
  CHECK(consents_to(a, "store-others"));
}

TEST_CASE("boot: a start that would not be found is refused, however it was planned") {
  const auto disk = system_disk({40, 44, 300, 10, 2, false});
  replace_in_p1(*disk, wide("winload.exe"), wide("winxoad.exe"));  // nobody knows its UEFI twin
  CHECK(survey_disk(*disk, support::utc()).systems.boots_by() == BootWay::legacy);
  const Assessment a = look(*disk, "table=gpt boot=uefi");
  REQUIRE(a.obstacles.size() == 1);
  CHECK(a.obstacles[0].code == ObstacleCode::boot_way);
  CHECK(a.obstacles[0].text.find("winxoad.exe") != std::string::npos);
}

TEST_CASE("boot: a boot sector with a wrong start, and three ways to put it right") {
  using Mend = void (*)(Device&, const std::filesystem::path&);
  const std::vector<Mend> mends = {
      [](Device& disk, const std::filesystem::path& folder) {
        const Assessment a = assess_repair(disk, support::utc());
        REQUIRE(a.in_reach());
        QuietProgress quiet;
        CHECK(run_job(disk, a, support::case_in_memory(folder), quiet).sound());
      },
      [](Device& disk, const std::filesystem::path& folder) {
        (void)rewrite(disk, "boot=legacy", folder);
      },
      [](Device& disk, const std::filesystem::path& folder) {
        (void)rewrite(disk, "p3=logical", folder);
      }};
  for (std::size_t i = 0; i < 2 * mends.size(); ++i) {
    const bool fat = i % 2 == 1;
    CAPTURE(i);
    const auto disk = system_disk({40, 44, 300, 10, 2, false});
    const support::Folder folder(support::Folder::Where::memory);
    const Partition p = *read_table(*disk).layout.find(1);
    if (fat) (void)rewrite(*disk, "p1=fat32", folder / "fat");
    const std::uint64_t copy = fat ? p.start + 6 : p.range().last();
    Bytes first = disk->read(p.start);
    const std::string_view name = "BOOTMGR";
    if (fat) {
      std::fill(first.begin() + 0x5A, first.begin() + 510, std::uint8_t{0xC7});
      std::copy(name.begin(), name.end(), first.begin() + 0x180);
    }
    const auto put = [&](std::uint64_t hidden) {
      disk_bytes::put(first, 28, hidden, 4);
      for (const std::uint64_t at : {p.start, copy}) disk->write(at, first);
    };
    // Whether it is said, and then only, that the disk doesn't start.
    const auto is_found = [&] {
      const Survey survey = survey_disk(*disk, support::utc());
      const Finding* f = find_code(survey.find(1)->findings, Rule::volume_hidden_sectors);
      CHECK((f == nullptr) == (survey.systems.boots_by() == BootWay::legacy));
      return f != nullptr && f->severity == Severity::warning && f->repairable;
    };
    put(p.start);
    CHECK_FALSE(is_found());
    put(63);
    CHECK(is_found());
    mends[i / 2](*disk, folder / "mended");
    CHECK_FALSE(is_found());
    for (const std::uint64_t at : {p.start, copy})
      CHECK(disk_bytes::little(disk->read(at), 28, 4) == p.start);
    revert(*disk, folder / "mended");
    CHECK(is_found());
  }
}

namespace {

// Of what changes for the owner, behind what is deleted or lost.
ConsentCode first_to_know(const Assessment& a) {
  const auto it = std::find_if(a.consents.begin(), a.consents.end(), [](const Consent& c) {
    return row_of(c.code).rank == ConsentRank::use;
  });
  REQUIRE(it != a.consents.end());
  return it->code;
}

}  // namespace

TEST_CASE("boot: what takes the start away is said, whatever was asked for") {
  const auto disk = system_disk({40, 44, 8, 10, 2, false});
  for (const std::string goal :
       {"p1=gone", "p2=gone", "p1=fat32", "p1.active=no", "p3.active=yes", "p1=logical"}) {
    CAPTURE(goal);
    const Assessment a = look(*disk, goal);
    REQUIRE(a.in_reach());
    CHECK(first_to_know(a) == ConsentCode::start);
    const auto copy = disk->clone();
    const support::Folder folder(support::Folder::Where::memory);
    (void)rewrite(*copy, goal, folder / "case");
    CHECK_FALSE(survey_disk(*copy, support::utc()).systems.boots_by());
  }
  for (const std::string goal : {"p2.label=TIDE", "p3.size=-1MiB", "p3=logical", "p2.size=-2MiB"}) {
    CAPTURE(goal);
    const Assessment a = look(*disk, goal);
    REQUIRE(a.in_reach());
    CHECK_FALSE(consents_to(a, "start"));
  }
  // So it is of another table, where nothing is said of firmware.
  const Assessment gpt = look(*disk, "table=gpt p3.size=-1MiB");
  CHECK(first_to_know(gpt) == ConsentCode::start);
  CHECK_FALSE(consents_to(gpt, "firmware"));
  // What a system can't run from isn't made of its volume.
  for (const std::string goal : {"p2=fat32", "p2=fat32 table=gpt p3.size=-1MiB"}) {
    CAPTURE(goal);
    const Assessment a = look(*disk, goal);
    REQUIRE_FALSE(a.in_reach());
    CHECK(a.obstacles.at(0).code == ObstacleCode::boots_from);
  }
  // Of a system that nothing starts it is said.
  const auto other = disk->clone();
  const support::Folder folder(support::Folder::Where::memory);
  (void)rewrite(*other, "p1.active=no", folder / "case");
  const Assessment old = look(*other, "p2=fat32");
  REQUIRE(old.in_reach());
  CHECK(first_to_know(old) == ConsentCode::system);
}

TEST_CASE("boot: room for the EFI system partition is found wherever there is any") {
  struct Case {
    const char* name;
    orrelune::SystemDisk plan;
    const char* before;  // a goal that is reached first; or none
    const char* by;      // the consent that says where it comes from
    std::uint64_t mib;   // how large it becomes
  };
  const Case cases[] = {
      {"the system's volume, by the usual", {40, 600, 0, 10, 0, true}, "", "shorter", 260},
      {"by 100 MiB", {40, 240, 0, 10, 0, true}, "", "shorter", 101},
      {"by the least", {40, 60, 0, 10, 0, true}, "", "shorter", 37},
      {"another volume", {40, 30, 0, 200, 0, true}, "", "shorter", 100},
      {"an old boot partition that isn't active",
       {100, 44, 0, 10, 2, false},
       "p2.active=yes",
       "gone",
       100},
      {"a small gap", {40, 30, 38, 10, 2, true}, "", "boot-files", 38},
  };
  for (const Case& c : cases) {
    CAPTURE(std::string(c.name));
    const auto disk = system_disk(c.plan);
    const support::Folder folder(support::Folder::Where::memory);
    if (*c.before != '\0') (void)rewrite(*disk, c.before, folder / "before");
    const Assessment a = rewrite(*disk, "table=gpt boot=uefi", folder / "case");
    CHECK(consents_to(a, c.by));
    CHECK(survey_disk(*disk, support::utc()).systems.boots_by() == BootWay::uefi);
    const Layout layout = read_table(*disk).layout;
    std::uint64_t bytes = 0;
    for (const Partition& p : layout.partitions) {
      if (class_of(p.type) == TypeClass::efi_system) bytes = p.sectors * disk->sector_size();
    }
    CHECK(bytes / (1u << 20) == c.mib);
  }
  // Where more is asked for than there is, what works is offered.
  const auto disk = system_disk({40, 240, 0, 10, 0, true});
  for (const char* length : {"260MiB", "10MiB"}) {
    const Assessment a = look(*disk, std::string("table=gpt boot=uefi esp=") + length);
    REQUIRE(a.obstacles.size() == 1);
    CHECK_FALSE(a.obstacles[0].goals.empty());
    std::string words;
    for (const Goal& g : a.obstacles[0].goals) words += (words.empty() ? "" : " ") + g.text();
    INFO(words);
    CHECK(look(*disk, words).in_reach());
  }
}

TEST_CASE("boot: what is missing, asleep or not closed is said, and nothing is planned") {
  const auto disk = system_disk(small);
  const auto refusal = [&disk](const std::string& goals) {
    const Assessment a = look(*disk, goals);
    CHECK_FALSE(a.in_reach());
    CHECK(a.after == a.before);
    return std::string(a.in_reach() ? "" : name_of(a.obstacles[0]));
  };
  CHECK(look(*disk, "table=gpt boot=uefi").in_reach());
  CHECK(refusal("boot=uefi") == "boot-table");
  CHECK(look(*disk, "boot=uefi").obstacles[0].goals == goals_of("table=gpt boot=uefi"));
  CHECK(refusal("boot=legacy") == "already");
  CHECK(refusal("table=gpt boot=legacy") == "boot-table");
  CHECK(refusal("table=gpt boot=uefi esp=2GiB") == "esp-room");
  CHECK(look(*disk, "table=gpt boot=uefi esp=36MiB").in_reach());
  CHECK_THROWS_AS((void)look(*disk, "esp=100MiB"), const Error&);
  CHECK_THROWS_AS((void)look(*disk, "boot=uefi boot=legacy"), const Error&);
  CHECK_THROWS_AS((void)look(*disk, "p1.letter=C p2.letter=C"), const Error&);

  // Files that are spoilt on the disk by their contents: a loader, a store, the hive.
  const auto with = [&](unsigned number, const std::string& path,
                        const std::function<void(Bytes&)>& change) {
    auto out = disk->clone();
    const Layout layout = read_table(*out).layout;
    const Partition p = *layout.find(number);
    const Window window(*out, p.range());
    const auto reader = open_volume(window, support::utc());
    const FileTree& tree = reader->tree();
    const FileTree::Id id = tree.find(path);
    REQUIRE(id != FileTree::none);
    const auto extents = tree.extents(id);
    REQUIRE_FALSE(extents.empty());
    Bytes first = window.read(extents[0].first);
    change(first);
    out->write(p.start + extents[0].first, first);
    return out;
  };
  const auto why = [](const Device& spoilt, const std::string& goals) {
    const Assessment a = look(spoilt, goals);
    return a.in_reach() ? std::string() : name_of(a.obstacles[0]) + (": " + a.obstacles[0].text);
  };
  const std::string hive = "Windows/System32/config/SYSTEM";
  const auto unclosed = with(2, hive, [](Bytes& b) { ++b[4]; });
  CHECK(why(*unclosed, "table=gpt boot=uefi").find("hive: ") == 0);
  CHECK(why(*unclosed, "p3.letter=Z").find("not closed clean") != std::string::npos);
  // Without a goal about it the table is changed, and what it means is to be agreed to.
  const Assessment left = look(*unclosed, "table=gpt p3.size=-1MiB");
  REQUIRE(left.in_reach());
  CHECK(consents_to(left, "letters-left"));
  const auto newer = with(2, hive + ".LOG1", [](Bytes& b) { b[4] = b[8] = 200; });
  CHECK(why(*newer, "p3.letter=Z").find("newer changes") != std::string::npos);
  const auto store = with(1, "Boot/BCD", [](Bytes& b) { b[508] ^= 1; });
  CHECK(why(*store, "table=gpt boot=uefi").find("boot-piece: boot files: the boot store") == 0);
  // Where nobody asks about booting, a store that can't be changed is said.
  CHECK(consents_to(look(*store, "p1.front=+100KiB"), name_of(ConsentCode::store_left)));
  const auto old = with(2, "Windows/System32/winload.efi", [](Bytes& b) {
    b[0x84] = 0x4C;
    b[0x85] = 0x01;
  });
  CHECK(consents_to(look(*old, "table=gpt boot=uefi"), name_of(ConsentCode::boot_32)));
  const auto machine = with(2, "Windows/System32/winload.efi", [](Bytes& b) { b[0x84] = 0x77; });
  CHECK(why(*machine, "table=gpt boot=uefi").find("doesn't say for which machine") !=
        std::string::npos);
  // The same hive in the form of sparse files, without a hole: it is read, and can't be replaced.
  const auto sparse = disk->clone();
  make_sparse(*sparse, read_table(*disk).layout.find(2)->range(), u"SYSTEM");
  CHECK(file_of(*sparse, 2, hive) == file_of(*disk, 2, hive));
  CHECK(why(*sparse, "p3.letter=Z").find("boot-file: ") == 0);
  CHECK(why(*sparse, "p3.letter=Z").find(hive) != std::string::npos);
  const auto code = disk->clone();
  for (const unsigned number : {1u, 2u, 3u}) {
    const Partition p = *read_table(*disk).layout.find(number);
    Bytes area = code->read(p.start, 16);
    std::fill(area.begin() + 0x54, area.begin() + 510, std::uint8_t{0});
    std::fill(area.begin() + 512, area.end(), std::uint8_t{0});
    code->write(p.start, area);
  }
  CHECK(why(*code, "boot=legacy").find("boot-code") == 0);
  // A disk that only holds files.
  auto plain = support::disk(70000);
  write_new_table(*plain, disk_bytes::mbr(plain->sectors()));
  CHECK(why(*plain, "boot=legacy").find("no-system") == 0);
}

TEST_CASE("boot: letters and stores follow partitions, whatever else is asked for") {
  const orrelune::SystemDisk plan{.boot = 12, .system = 44, .gap = 20, .recovery = 10, .behind = 2};
  const auto disk = system_disk(plan);
  const support::Folder folder(support::Folder::Where::memory);
  const auto before = disk->clone();
  // p3 begins earlier: its letter's value is where it begins.
  const Assessment moved = rewrite(*disk, "p3.front=+4MiB p1.letter=Q", folder / "moved");
  CHECK(consents_to(moved, "letters"));
  const Survey now = survey_disk(*disk, support::utc());
  CHECK(now.systems.boots_by() == BootWay::legacy);
  const auto has = [&disk](const std::string& letter, std::uint64_t offset,
                           std::uint32_t signature) {
    Bytes wanted(12);
    support::put(wanted, 0, signature, 4);
    support::put(wanted, 4, offset, 8);
    const Bytes hive = file_of(*disk, 2, "Windows/System32/config/SYSTEM");
    const std::string name = "\\DosDevices\\" + letter + ":";
    const auto at = std::search(hive.begin(), hive.end(), name.begin(), name.end());
    REQUIRE(at != hive.end());
    return std::search(hive.begin(), hive.end(), wanted.begin(), wanted.end()) != hive.end();
  };
  const std::uint64_t mib = 1u << 20;
  CHECK(has("R", (1 + 12 + 44 + 20 - 4) * mib, orrelune::system_disk_signature));
  CHECK(has("Q", mib, orrelune::system_disk_signature));
  CHECK(has("E", mib, orrelune::other_disk_signature));
  revert(*disk, folder / "moved");
  CHECK(disk->same_as(*before));

  // Taken: by this disk, by another one, by something else.
  for (const char* letter : {"p3.letter=C", "p3.letter=E", "p3.letter=F"}) {
    CAPTURE(letter);
    const Assessment no = look(*disk, letter);
    REQUIRE_FALSE(no.in_reach());
    CHECK(no.obstacles[0].code == ObstacleCode::letter_taken);
  }
  CHECK(look(*disk, "p3.letter=R").obstacles[0].code == ObstacleCode::already);
  // Two may change places.
  (void)rewrite(*disk, "p2.letter=R p3.letter=C", folder / "swapped");
  CHECK(has("C", (1 + 12 + 44 + 20) * mib, orrelune::system_disk_signature));
  // As a GPT they are GUIDs.
  (void)rewrite(*disk, "table=gpt", folder / "gpt");
  const Layout layout = read_table(*disk).layout;
  const Bytes hive = file_of(*disk, 2, "Windows/System32/config/SYSTEM");
  for (const unsigned number : {2u, 3u}) {
    Bytes value{'D', 'M', 'I', 'O', ':', 'I', 'D', ':'};
    const auto& id = layout.find(number)->unique_id.on_disk();
    value.insert(value.end(), id.begin(), id.end());
    CHECK(std::search(hive.begin(), hive.end(), value.begin(), value.end()) != hive.end());
  }
}

TEST_CASE("boot: what else names a partition's place follows it, or is said by name") {
  orrelune::SystemDisk plan{
      .boot = 40, .system = 300, .gap = 20, .recovery = 10, .behind = 2, .other_files = true};
  plan.repair = true;
  const auto disk = system_disk(plan);
  const support::Folder folder(support::Folder::Where::memory);
  // A name inside of a longer element: p3 begins earlier, then has a GUID.
  const auto store_has = [&disk](unsigned volume, const std::string& path, const Bytes& part) {
    const Bytes store = file_of(*disk, volume, path);
    return std::search(store.begin(), store.end(), part.begin(), part.end()) != store.end();
  };
  const std::uint64_t mib = 1u << 20;
  const Assessment moved = rewrite(*disk, "p3.front=+4MiB", folder / "moved");
  CHECK(consents_to(moved, "recovery-settings"));
  CHECK(consents_to(moved, "store"));
  CHECK(consents_to(moved, "store-odd"));
  CHECK(store_has(
      1, "Boot/BCD",
      orrelune::memory_disk(orrelune::system_disk_signature, (1 + 40 + 300 + 20 - 4) * mib)));
  const Assessment uefi = rewrite(*disk, "table=gpt boot=uefi", folder / "uefi");
  CHECK(consents_to(uefi, "recovery-settings"));
  const Layout layout = read_table(*disk).layout;
  const auto esp = std::find_if(layout.partitions.begin(), layout.partitions.end(),
                                [](auto& p) { return class_of(p.type) == TypeClass::efi_system; });
  REQUIRE(esp != layout.partitions.end());
  Bytes wanted(orrelune::memory_disk(0, 0));
  const auto& id = layout.partitions.back().unique_id.on_disk();
  const auto& of_disk = layout.disk_guid.on_disk();
  std::copy(id.begin(), id.end(), wanted.begin() + 36 + 16);
  support::put(wanted, 36 + 36, 0, 4);
  std::copy(of_disk.begin(), of_disk.end(), wanted.begin() + 36 + 40);
  CHECK(store_has(esp->number, "EFI/Microsoft/Boot/BCD", wanted));
  // What doesn't touch a name says nothing of it.
  const Assessment label = look(*disk, "p2.label=TIDE");
  for (const char* code : {"recovery-settings", "store-odd", "firmware-entries"})
    CHECK_FALSE(consents_to(label, code));
  // Firmware's own entries name the EFI system partition.
  const std::string size = fmt::format("p{}.size=-8MiB", esp->number);
  const Assessment shorter = look(*disk, size);
  for (const Obstacle& o : shorter.obstacles) MESSAGE(o.text);
  REQUIRE(shorter.in_reach());
  CHECK(consents_to(shorter, "firmware-entries"));
}

TEST_CASE("boot: the start code of a FAT volume that stays FAT is kept") {
  for (const VolumeKind kind : {VolumeKind::fat32, VolumeKind::fat16}) {
    CAPTURE(std::string(name_of(kind)));
    const support::Folder folder(support::Folder::Where::memory);
    auto disk = support::disk(150000);
    Layout layout = disk_bytes::mbr(disk->sectors(), 512, 9);
    const std::uint64_t length = kind == VolumeKind::fat32 ? 120000 : 40000;
    Partition& p = disk_bytes::add(layout, Role::primary, {2048, length}, 0x0C);
    p.active = true;
    write_new_table(*disk, layout);
    {
      WritableWindow window(*disk, p.range());
      FatFormat format;
      format.kind = kind;
      format.cluster_sectors = 1;
      format.hidden_sectors = p.start;
      FatWriter writer(window, format);
      writer.add_file("READING.TXT", Bytes(3000, 0x31));
      writer.finish();
    }
    const std::size_t code_at = kind == VolumeKind::fat32 ? 0x5A : 0x3E;
    const auto code_of = [&](const Device& device) {
      Bytes out = device.read(p.start);
      out.erase(out.begin() + 3, out.begin() + static_cast<std::ptrdiff_t>(code_at));
      if (kind == VolumeKind::fat32) {  // what it goes on with
        for (const std::uint64_t at : {2, 12}) {
          const Bytes more = device.read(p.start + at);
          out.insert(out.end(), more.begin(), more.end());
        }
      }
      return out;
    };
    Bytes first = disk->read(p.start);
    std::fill(first.begin() + static_cast<std::ptrdiff_t>(code_at), first.begin() + 510,
              std::uint8_t{0xC7});
    disk->write(p.start, first);
    if (kind == VolumeKind::fat32) {
      disk->write(p.start + 2, Bytes(512, 0xC8));
      disk->write(p.start + 12, Bytes(512, 0xC9));
      disk->write(p.start + 6, first);
    }
    const Bytes code = code_of(*disk);
    const Assessment longer = rewrite(*disk, "p1.size=+5MiB", folder / "longer");
    CHECK_FALSE(consents_to(longer, "boot-code"));
    CHECK(code_of(*disk) == code);
    (void)rewrite(*disk, "p1.size=-3MiB", folder / "shorter");
    CHECK(code_of(*disk) == code);
  }
}
