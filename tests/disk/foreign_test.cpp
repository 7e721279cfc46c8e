// Volumes that other hands laid out: found sound, read to the byte, rewritten, and put back.

#include <numeric>

#include <fmt/core.h>

#include "foreign_fat.h"
#include "foreign_gpt.h"
#include "foreign_mbr.h"
#include "foreign_ntfs.h"
#include "recorded_job.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

constexpr std::uint64_t mib = 1u << 20;

// The volume as the one partition of an MBR, with room on both sides.
foreign::Volume in_a_table(const foreign::NtfsShape& shape) {
  foreign::Volume out = foreign::ntfs(shape, 128 * mib, 8 * mib);
  auto disk = support::disk(256 * mib / shape.sector_bytes, shape.sector_bytes);
  disk_bytes::copy_data(*out.disk, *disk);
  Bytes mbr(shape.sector_bytes);
  support::put(mbr, 440, 0x0DDBA115, 4);
  support::put_entry(mbr, 0, 0x07, 8 * mib / shape.sector_bytes, 128 * mib / shape.sector_bytes);
  disk->write(0, mbr);
  out.disk = std::move(disk);
  return out;
}

std::string name_of_shape(const foreign::NtfsShape& s) {
  return fmt::format("clusters of {}, sectors of {}, records of {}{}", s.cluster_bytes,
                     s.sector_bytes, s.record_bytes, s.posix_names ? ", POSIX names" : "");
}

void must_hold(const Device& disk, const std::map<std::string, Bytes>& files) {
  QuietProgress quiet;
  const Manifest m = take_manifest(disk, utc(), quiet);
  REQUIRE(m.volumes.size() == 1);
  const ManifestVolume& v = m.volumes[0];
  CHECK(m.whole());
  CHECK(m.files() == files.size());
  for (const auto& [path, contents] : files) {
    CAPTURE(path);
    const FileTree::Id id = v.tree.find(path);
    REQUIRE(id != FileTree::none);
    CHECK(v.tree.bytes(id) == contents.size());
    CHECK(v.digests[id] == Sha256::of(contents));
  }
}

}  // namespace

TEST_CASE("foreign: an NTFS volume that other hands laid out is sound, and read to the byte") {
  for (const foreign::NtfsShape& shape : foreign::ntfs_shapes()) {
    CAPTURE(name_of_shape(shape));
    const foreign::Volume v = in_a_table(shape);
    const Findings findings = survey_disk(*v.disk, utc(), true).all_findings();
    for (const Finding& f : findings) {
      MESSAGE(std::string(name_of(f.code)) << ": " << f.text << " " << f.place.text());
      CHECK(f.severity == Severity::note);
    }
    must_hold(*v.disk, v.files);
  }
}

namespace {

// Done in memory, as it was said, and put back. False: not in reach.
bool done_and_put_back(MemoryDevice& disk, const std::vector<std::string>& goals, bool fat_after,
                       Unowned unowned = Unowned::leave) {
  const support::Folder folder(support::Folder::Where::memory);
  const auto original = disk.clone();
  std::vector<Goal> parsed;
  for (const std::string& goal : goals) parsed.push_back(parse_goal(goal));
  Random random(1);
  QuietProgress quiet;
  const Findings before = survey_disk(disk, utc(), true).all_findings();
  const Assessment a =
      goals.empty() ? assess_repair(disk, utc(), unowned) : assess(disk, parsed, utc(), random);
  for (const Obstacle& o : a.obstacles)
    if (goals.empty()) MESSAGE(std::string(name_of(o)) << ": " << o.text);
  if (!a.in_reach()) return false;
  const JobResult result = run_job(disk, a, support::case_in_memory(folder / "case"), quiet);
  for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
  CHECK(result.sound());
  for (const Finding& f : result.findings_after)
    CHECK_MESSAGE((find_code(before, f.code) != nullptr && !(goals.empty() && f.repairable)),
                  f.code << ": " << f.text);
  if (fat_after) {
    // Names are the same to whoever takes another code page for the right one.
    ReadOptions other = utc();
    other.codepage = 866;
    CHECK(take_manifest(disk, other, quiet).seal() == result.comparison.seal_after);
  }
  (void)revert_case(disk, load_case(folder / "case"), {}, quiet);
  CHECK(disk.same_as(*original));
  return true;
}

unsigned sum_of(const std::map<std::string, unsigned>& done) {
  return std::accumulate(done.begin(), done.end(), 0u,
                         [](unsigned sum, const auto& each) { return sum + each.second; });
}

std::string words_of(const std::vector<std::string>& goals) {
  std::string out;
  for (const std::string& goal : goals) out += goal + " ";
  return out;
}

}  // namespace

TEST_CASE("foreign: rewrites of an NTFS volume that other hands laid out") {
  const std::vector<std::vector<std::string>> all_goals = {
      {"table=gpt"},
      {"p1.label=Pegel"},
      {"p1.size=max"},
      {"p1.size=-32MiB"},
      {"p1.front=max"},
      {"p1.front=max", "p1.size=max", "table=gpt"},
      {"p1.size=min"},
      {"p1=fat16"},
      {"p1=fat32", "p1.cluster=512"},
      {"p1=fat16", "p1.size=-16MiB"}};
  unsigned done = 0;
  for (const foreign::NtfsShape& shape : foreign::ntfs_shapes()) {
    for (std::vector<std::string> goals : all_goals) {
      // So many clusters can't be on it, and a cluster isn't smaller than a sector.
      if (goals.back() == "p1.cluster=512" && shape.sector_bytes != 512) continue;
      const bool to_fat = goals[0].starts_with("p1=fat");
      if (to_fat && shape.posix_names) goals.push_back("names=safe");
      CAPTURE(name_of_shape(shape));
      CAPTURE(words_of(goals));
      CHECK(done_and_put_back(*in_a_table(shape).disk, goals, to_fat));
      ++done;
    }
  }
  MESSAGE(done << " rewrites of " << foreign::ntfs_shapes().size() << " NTFS volumes");
}

TEST_CASE("foreign: FAT volumes that other hands laid out are read, rewritten and put back") {
  const std::vector<std::vector<std::string>> all_goals = {
      {"table=gpt"},      {"p1=ntfs"},      {"p1.label=PEGEL"},         {"p1.size=max"},
      {"p1.size=-1MiB"},  {"p1.front=max"}, {"p1=ntfs", "p1.size=max"}, {"p1=fat32"},
      {"p1.cluster=4KiB"}};
  std::map<std::string, unsigned> done;
  for (const foreign::FatShape& shape : foreign::fat_shapes()) {
    CAPTURE(shape.name);
    constexpr std::uint64_t begin = 32768, all = 2500000;
    const foreign::FatVolume v = foreign::fat(shape, begin, all);
    for (const Finding& f : survey_disk(*v.disk, utc(), true).all_findings())
      CHECK_MESSAGE(f.severity == Severity::note, name_of(f.code) << ": " << f.text);
    must_hold(*v.disk, v.files);
    for (const auto& goals : all_goals) {
      CAPTURE(words_of(goals));
      const auto disk = v.disk->clone();
      if (done_and_put_back(*disk, goals, false)) ++done[words_of(goals)];
    }
  }
  // What every shape lets be done; the others are refused where no such volume can be.
  for (const char* goals : {"table=gpt ", "p1=ntfs ", "p1.label=PEGEL ", "p1.size=-1MiB ",
                            "p1.front=max ", "p1=ntfs p1.size=max "})
    CHECK_MESSAGE(done[goals] == foreign::fat_shapes().size(), goals);
  CHECK(done["p1.size=max "] >= 11);
  MESSAGE(sum_of(done) << " rewrites of " << foreign::fat_shapes().size() << " FAT volumes");
}

namespace {

// Damage that can be mended, done to a FAT volume by what its boot sector says.
class FatDamage {
 public:
  FatDamage(Device& disk, const foreign::FatShape& shape, std::uint64_t start)
      : disk_(disk), shape_(shape), start_(start), boot_(disk.read(start)) {
    fat_ = disk_bytes::little(boot_, 22, 2) != 0 ? disk_bytes::little(boot_, 22, 2)
                                                 : disk_bytes::little(boot_, 36, 4);
  }
  bool other_copy() {
    if (shape_.fats < 2 || shape_.active != 0) return false;
    set_entry(shape_.fats - 1, 2500, 2501);
    return true;
  }
  bool boot_copy() {
    if (shape_.width != 32 || shape_.boot_copy == 0) return false;
    change(std::uint64_t{shape_.boot_copy} * shape_.sector_bytes + 510, 0, 1);
    return true;
  }
  bool free_count() {
    if (shape_.width != 32 || shape_.fs_info == 0) return false;
    change(std::uint64_t{shape_.fs_info} * shape_.sector_bytes + 488, 7, 4);
    return true;
  }
  bool long_chain() {
    set_entries(52, 53);
    set_entries(53, 0x0FFFFFFF);
    return true;
  }
  bool unowned() {
    set_entries(2600, 2601);
    set_entries(2601, 0x0FFFFFFF);
    return true;
  }

 private:
  void change(std::uint64_t at, std::uint64_t value, unsigned width) {
    const std::uint64_t lba = start_ + at / disk_.sector_size();
    Bytes two = disk_.read(lba, 2);  // an entry of 12 bits may lie in both
    disk_bytes::put(two, at % disk_.sector_size(), value, width);
    disk_.write(lba, two);
  }
  void set_entry(std::uint32_t copy, std::uint64_t cluster, std::uint64_t value) {
    const std::uint64_t base = (shape_.reserved + copy * fat_) * shape_.sector_bytes;
    if (shape_.width == 16) return change(base + cluster * 2, value & 0xFFFF, 2);
    if (shape_.width == 32) return change(base + cluster * 4, value | shape_.high_bits, 4);
    const std::uint64_t at = base + cluster * 3 / 2;
    const Bytes two = disk_.read(start_ + at / disk_.sector_size(), 2);
    const std::uint64_t old = disk_bytes::little(two, at % disk_.sector_size(), 2);
    value &= 0xFFF;
    change(at, cluster % 2 == 0 ? (old & 0xF000) | value : (old & 0xF) | value << 4, 2);
  }
  void set_entries(std::uint64_t cluster, std::uint64_t value) {
    for (std::uint32_t copy = 0; copy < shape_.fats; ++copy) {
      if (shape_.active == 0 || copy + 1 == shape_.active) set_entry(copy, cluster, value);
    }
  }

  Device& disk_;
  const foreign::FatShape& shape_;
  std::uint64_t start_;
  Bytes boot_;
  std::uint64_t fat_ = 0;
};

}  // namespace

TEST_CASE("foreign: FAT volumes of other hands are mended, and put back") {
  using Damage = bool (FatDamage::*)();
  unsigned mended = 0;
  for (const foreign::FatShape& shape : foreign::fat_shapes()) {
    CAPTURE(shape.name);
    const auto volume = foreign::fat(shape, 2048, 2500000);
    const auto mend = [&](const std::vector<Damage>& damage, Unowned unowned) {
      const auto disk = volume.disk->clone();
      FatDamage harm(*disk, shape, 2048);
      bool any = false;
      for (const Damage one : damage) any = (harm.*one)() || any;
      if (!any) return;
      const Findings before = survey_disk(*volume.disk, utc(), true).all_findings();
      const Findings there = survey_disk(*disk, utc(), true).all_findings();
      REQUIRE(there.size() > before.size());
      CHECK(done_and_put_back(*disk, {}, false, unowned));
      ++mended;
    };
    const std::vector<Damage> all = {&FatDamage::other_copy, &FatDamage::boot_copy,
                                     &FatDamage::free_count, &FatDamage::long_chain,
                                     &FatDamage::unowned};
    for (const Damage one : all) mend({one}, Unowned::free);
    mend(all, Unowned::free);
    mend(all, Unowned::keep);
  }
  MESSAGE(mended << " FAT volumes mended");
}

TEST_CASE("foreign: GPTs that other hands laid out are read, changed and put back") {
  const std::vector<std::vector<std::string>> all_goals = {
      {"table=mbr"},     {"p1.name=Ebbe"},        {"p1=ntfs"}, {"p1.size=-1MiB"},
      {"p1.size=max"},   {"p2.front=max"},        {"p3=gone"}, {"g1=fat16"},
      {"p1.active=yes"}, {"table=mbr", "p1=ntfs"}};
  std::map<std::string, unsigned> done;
  for (const foreign::GptShape& shape : foreign::gpt_shapes()) {
    CAPTURE(shape.name);
    const auto made = foreign::gpt(shape);
    for (const Finding& f : survey_disk(*made, utc(), true).all_findings())
      CHECK_MESSAGE(f.severity != Severity::error, name_of(f.code) << ": " << f.text);
    for (const auto& goals : all_goals) {
      // The partitions by the numbers that their entries have.
      std::vector<std::string> here;
      for (std::string goal : goals) {
        if (goal[0] == 'p') goal.replace(1, 1, std::to_string(shape.slots[goal[1] - '1'] + 1u));
        here.push_back(goal);
      }
      CAPTURE(words_of(here));
      const auto disk = made->clone();
      if (done_and_put_back(*disk, here, false)) ++done[words_of(goals)];
    }
  }
  // One has a number beyond 128, which no table of Nuvrat's has; two have small FAT16 volumes.
  const auto count = static_cast<unsigned>(foreign::gpt_shapes().size());
  const std::map<std::string, unsigned> wanted = {
      {"table=mbr ", count},         {"p3=gone ", count},          {"p1=ntfs ", count},
      {"table=mbr p1=ntfs ", count}, {"p1.name=Ebbe ", count - 1}, {"p1.active=yes ", count - 1},
      {"p2.front=max ", count - 1},  {"p1.size=max ", count - 1},  {"p1.size=-1MiB ", count - 3},
      {"g1=fat16 ", count - 3}};
  CHECK(done == wanted);
  MESSAGE(sum_of(done) << " rewrites of " << foreign::gpt_shapes().size() << " GPTs");
}

TEST_CASE("foreign: a copy of a GPT of other hands that is damaged is mended, and put back") {
  unsigned mended = 0;
  for (const foreign::GptShape& shape : foreign::gpt_shapes()) {
    CAPTURE(shape.name);
    const auto sound = foreign::gpt(shape);
    const std::uint64_t back = sound->sectors() - shape.grown - 1;
    const std::uint64_t usable = read_table(*sound).layout.last_usable;
    // Headers, arrays, the protective MBR.
    for (const std::uint64_t lba :
         {std::uint64_t{1}, shape.array, back, usable + 1 + shape.unused_end, std::uint64_t{0}}) {
      CAPTURE(lba);
      const auto disk = sound->clone();
      Bytes sector = disk->read(lba);
      sector[40] ^= 1;
      if (lba == 0) std::fill(sector.begin(), sector.end(), std::uint8_t{0});
      disk->write(lba, sector);
      REQUIRE_FALSE(read_table(*disk).findings.empty());
      mended += done_and_put_back(*disk, {}, false) ? 1 : 0;
    }
  }
  // One has a number that no table of Nuvrat's has: only LBA 0 of it is mended.
  CHECK(mended == 5 * foreign::gpt_shapes().size() - 4);
  MESSAGE(mended << " GPTs mended");
}

TEST_CASE("foreign: whenever the power fails while such a copy is mended, one of them is good") {
  unsigned cuts = 0;
  for (const char* name : {"a disk that grew", "entries of 256 bytes", "as usual, aligned"}) {
    CAPTURE(name);
    const auto shape = std::find_if(foreign::gpt_shapes().begin(), foreign::gpt_shapes().end(),
                                    [name](const auto& s) { return s.name == name; });
    const auto disk = foreign::gpt(*shape);
    const Layout sound = read_table(*disk).layout;
    const std::uint64_t back = disk->sectors() - 1;
    disk->write(shape->grown > 0 ? 1 : shape->entry_bytes > 128 ? back : 0, Bytes(512));
    const support::RecordedJob job(*disk, assess_repair(*disk, utc()));
    for (std::uint64_t sector = 0; sector < job.sectors(); ++sector) {
      CAPTURE(sector);
      FaultPlan plan;
      plan.cut_before = sector;
      plan.seed = sector;
      const auto found = job.cut(plan);
      const Layout layout = read_table(*found).layout;
      CHECK(layout.partitions == sound.partitions);
      CHECK(layout.disk_guid == sound.disk_guid);
      ++cuts;
      if (sector % 9 != 0) continue;
      const support::Folder folder(support::Folder::Where::memory);
      QuietProgress quiet;
      (void)job.copy_case(sector, folder / "case");
      const auto other = found->clone();
      CHECK(resume_case(*other, load_case(folder / "case"), quiet).sound());
      CHECK(other->same_as(job.result()));
    }
  }
  MESSAGE(cuts << " cuts");
}

TEST_CASE("foreign: MBRs that other hands laid out are read, changed and put back") {
  std::map<std::string, unsigned> done;
  unsigned tried = 0;  // partitions
  for (const foreign::MbrShape& shape : foreign::mbr_shapes()) {
    CAPTURE(shape.name);
    const auto made = foreign::mbr(shape);
    const Survey survey = survey_disk(*made, utc(), true);
    for (const Finding& f : survey.all_findings())
      CHECK_MESSAGE(f.severity != Severity::error, name_of(f.code) << ": " << f.text);
    std::vector<std::string> all_goals = {"table=gpt", "g1=raw", "g2=ntfs:3MiB"};
    std::vector<Partition> parts = survey.table.layout.data_partitions();
    for (const Partition& p : parts)
      CHECK_MESSAGE(open_volume(Window(*made, p.range()), utc()) != nullptr, p.number);
    // Of many the first, the second and the last.
    if (parts.size() > 3) parts.erase(parts.begin() + 2, parts.end() - 1);
    tried += static_cast<unsigned>(parts.size());
    for (const Partition& p : parts) {
      for (const char* goal : {"=ntfs", "=gone", "=primary", "=logical", ".active=yes",
                               ".size=-200KiB", ".size=max", ".front=max", ".label=EBBE"})
        all_goals.push_back("p" + std::to_string(p.number) + goal);
    }
    for (const std::string& goal : all_goals) {
      CAPTURE(goal);
      const auto disk = made->clone();
      if (!done_and_put_back(*disk, {goal}, false)) continue;
      ++done[goal[0] == 't' ? goal : goal.substr(goal.find_first_of("=."))];
    }
  }
  // One has no room for a GPT.
  CHECK(done["table=gpt"] == foreign::mbr_shapes().size() - 1);
  for (const char* goal : {"=ntfs", "=gone", ".size=-200KiB", ".label=EBBE"})
    CHECK_MESSAGE(done[goal] == tried, goal);
  for (const char* goal : {"=primary", "=logical", ".active=yes", ".size=max", ".front=max"})
    CHECK_MESSAGE(done[goal] >= 9, goal);
  MESSAGE(sum_of(done) << " rewrites of " << foreign::mbr_shapes().size() << " MBRs");
}

TEST_CASE("foreign: a container of other hands that is too short is mended, and put back") {
  unsigned mended = 0, refused = 0;
  for (const foreign::MbrShape& shape : foreign::mbr_shapes()) {
    CAPTURE(shape.name);
    const auto disk = foreign::mbr(shape);
    const Layout layout = read_table(*disk).layout;
    const Partition* container = layout.extended();
    if (container == nullptr || layout.data_partitions().back().role != Role::logical) continue;
    Bytes mbr = disk->read(0);
    for (std::size_t at = 446; at < 510; at += 16) {
      if (disk_bytes::little(mbr, at + 8, 4) != container->start) continue;
      const std::uint64_t last = layout.data_partitions().back().start;
      disk_bytes::put(mbr, at + 12, last - container->start + 7, 4);
    }
    disk->write(0, mbr);
    REQUIRE(has_errors(read_table(*disk).findings));
    ++(done_and_put_back(*disk, {}, false) ? mended : refused);
  }
  CHECK(mended > 0);
  MESSAGE(mended << " MBRs mended, " << refused << " refused");
}
