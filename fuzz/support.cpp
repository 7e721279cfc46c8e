#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>

#include <unistd.h>

#include <nuvrat/fat_writer.h>

#include "fuzz.h"

namespace fuzz {

using namespace nuvrat;

namespace {

void append(Bytes& out, std::uint64_t value, unsigned width) {
  for (unsigned i = 0; i < width; ++i) out.push_back(static_cast<std::uint8_t>(value >> 8 * i));
}

// Every sector that begins a record or an index block.
void mend_records(MemoryDevice& disk) {
  const std::uint64_t size = disk.sector_size();
  for (std::uint64_t lba = disk.next_data(0); lba < disk.sectors(); lba = disk.next_data(lba + 1)) {
    const Bytes sector = disk.read(lba);
    const std::uint64_t magic = little(sector, 0, 4);
    if (magic != 0x454C4946 && magic != 0x58444E49) continue;  // "FILE", "INDX"
    const std::uint64_t pieces = little(sector, 6, 2);
    const std::uint64_t count = (std::max<std::uint64_t>(pieces, 2) - 1) * 512 / size;
    if (count == 0 || count > 16 || count > disk.sectors() - lba) continue;
    Bytes record = disk.read(lba, count);
    mend_record(record);
    disk.write(lba, record);
  }
}

}  // namespace

// Of a GPT: entries' and header's CRC-32, both copies (UEFI specification, 5.3.2).
void mend_gpt(MemoryDevice& disk) {
  for (const std::uint64_t lba : {std::uint64_t{1}, disk.sectors() - 1}) {
    Bytes header = disk.read(lba);
    if (little(header, 0, 8) != 0x5452415020494645) continue;  // "EFI PART"
    const std::uint64_t size = little(header, 12, 4);
    const std::uint64_t array = little(header, 72, 8);
    const std::uint64_t bytes = little(header, 80, 4) * little(header, 84, 4);
    const std::uint64_t sectors = (bytes + disk.sector_size() - 1) / disk.sector_size();
    if (size < 92 || size > header.size() || bytes > 1u << 20 || array >= disk.sectors() ||
        sectors > disk.sectors() - array)
      continue;
    if (sectors > 0) put(header, 88, crc32(ByteView(disk.read(array, sectors)).first(bytes)), 4);
    put(header, 16, 0, 4);
    put(header, 16, crc32(ByteView(header).first(size)), 4);
    disk.write(lba, header);
  }
}

// Sectors that hold more than one byte over and over: the structures.
std::vector<std::uint64_t> structures_of(const MemoryDevice& disk) {
  std::vector<std::uint64_t> out;
  for (std::uint64_t lba = disk.next_data(0); lba < disk.sectors(); lba = disk.next_data(lba + 1)) {
    const Bytes sector = disk.read(lba);
    const bool plain = std::all_of(sector.begin(), sector.end(),
                                   [&sector](std::uint8_t b) { return b == sector[0]; });
    if (!plain) out.push_back(lba);
  }
  return out;
}

// Pieces of five bytes: which of the sectors (u16), offset in it (u16), value; so that a mutation
// is one small damage somewhere in the structures.
void damage(MemoryDevice& disk, const std::vector<std::uint64_t>& sectors, ByteView pieces) {
  for (std::size_t at = 0; at + 5 <= pieces.size() && at < 500; at += 5) {
    const std::uint64_t lba = sectors[little(pieces, at, 2) % sectors.size()];
    Bytes sector = disk.read(lba);
    sector[little(pieces, at + 2, 2) % sector.size()] = pieces[at + 4];
    disk.write(lba, sector);
  }
}

void volume(ByteView input) {
  const auto disk = disk_from(input);
  if (disk) read_everything(*disk);
}

void broken(const std::string& what) {
  std::fprintf(stderr, "a word is broken: %s\n", what.c_str());
  std::abort();
}

TempFile::TempFile(ByteView contents) {
  static unsigned count = 0;
  const std::filesystem::path folder =
      std::filesystem::exists("/dev/shm") ? "/dev/shm" : std::filesystem::temp_directory_path();
  path_ = folder / ("nuvrat-fuzz-" + std::to_string(::getpid()) + "-" + std::to_string(count++));
  std::ofstream(path_, std::ios::binary)
      .write(reinterpret_cast<const char*>(contents.data()),
             static_cast<std::streamsize>(contents.size()));
}

TempFile::~TempFile() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
}

void mend_record(ByteSpan record) {
  const std::size_t at = little(record, 4, 2);
  const std::size_t count = little(record, 6, 2);
  if (count < 2 || at + count * 2 > record.size() || (count - 1) * 512 > record.size()) return;
  for (std::size_t i = 1; i < count; ++i) {
    record[i * 512 - 2] = record[at];
    record[i * 512 - 1] = record[at + 1];
  }
}

std::unique_ptr<MemoryDevice> disk_from(ByteView script) {
  if (script.size() < 2) return nullptr;
  const std::uint32_t size = (script[0] & 1) != 0 ? 4096 : 512;
  const std::uint64_t sectors = std::uint64_t{1} << (8 + script[1] % 14);  // 128 KiB to 8 GiB
  auto disk = std::make_unique<MemoryDevice>(sectors, size);
  for (std::size_t at = 2; at + 6 <= script.size();) {
    const std::uint64_t place = little(script, at, 4);
    const std::size_t count =
        std::min<std::size_t>(little(script, at + 4, 2), script.size() - at - 6);
    const std::uint64_t back = place >> 31;
    const std::uint64_t index = (place & 0x7FFFFFFF) % sectors;
    const std::uint64_t lba = back != 0 ? sectors - 1 - index : index;
    const std::uint64_t room = std::min<std::uint64_t>((count + size - 1) / size, sectors - lba);
    Bytes data(room * size);
    const auto from = script.subspan(at + 6, std::min<std::size_t>(count, data.size()));
    std::copy(from.begin(), from.end(), data.begin());
    if (room > 0) disk->write(lba, data);
    at += 6 + count;
  }
  if ((script[0] & 2) != 0) {
    mend_gpt(*disk);
    mend_records(*disk);
  }
  return disk;
}

Bytes script_of(const MemoryDevice& disk, bool mend) {
  Bytes out;
  unsigned exponent = 0;
  while (std::uint64_t{1} << (8 + exponent) < disk.sectors()) ++exponent;
  out.push_back(static_cast<std::uint8_t>((disk.sector_size() == 4096 ? 1 : 0) | (mend ? 2 : 0)));
  out.push_back(static_cast<std::uint8_t>(exponent));
  for (std::uint64_t lba = disk.next_data(0); lba < disk.sectors(); lba = disk.next_data(lba + 1)) {
    Bytes sector = disk.read(lba);
    while (!sector.empty() && sector.back() == 0) sector.pop_back();
    if (sector.empty()) continue;
    append(out, lba, 4);
    append(out, sector.size(), 2);
    out.insert(out.end(), sector.begin(), sector.end());
  }
  return out;
}

void read_everything(Device& disk) {
  expect_answer([&] {
    const Survey survey = survey_disk(disk, utc(), true);
    (void)survey_text(survey, {});
    (void)survey_json(survey);
    for (const SurveyedPartition& p : survey.partitions) {
      if (!p.volume) continue;
      expect_answer([&] {
        const Window window(disk, p.partition.range());
        const auto reader = open_volume(window, utc());
        if (!reader) return;
        const SectorSet owned = reader->owned();
        (void)reader->bad();
        // Files may claim any length; what the device holds bounds what is read.
        const FileTree& tree = reader->tree();
        std::uint64_t left = 8u << 20;
        for (FileTree::Id id = 1; id < tree.size(); ++id) {
          if (tree.is_directory(id) || tree.bytes(id) > left) continue;
          left -= tree.bytes(id);
          if (tree.stored(id) != Stored::elsewhere) continue;
          expect_answer([&] { reader->read_contents(id, [](ByteView) {}); });
        }
      });
    }
  });
}

std::unique_ptr<MemoryDevice> fat_volume(VolumeKind kind, unsigned more) {
  const std::uint64_t sectors = kind == VolumeKind::fat32 ? 1u << 17 : 1u << 14;
  auto disk = std::make_unique<MemoryDevice>(sectors, 512);
  FatFormat format;
  format.kind = kind;
  format.cluster_sectors = kind == VolumeKind::fat12 ? 16 : 1;
  format.label = "GAUGE";
  format.root_entries = 64;
  FatWriter writer(*disk, format);
  writer.add_directory("Readings");
  writer.add_file("Readings/a long name of a reading.csv", Bytes(3000, 'r'));
  writer.add_file("NOTE.TXT", Bytes(100, 'n'));
  FatFileInfo scattered;
  scattered.placement = Placement::scattered;
  writer.add_file("PIECES.BIN", Bytes(3000, 'p'), scattered);
  for (unsigned i = 0; i < more; ++i)
    writer.add_file("Readings/one of many readings " + std::to_string(i), {});
  writer.finish();
  return disk;
}

JobResult convert(Device& disk, const Assessment& plan,
                  const std::function<void(const std::filesystem::path&)>& with_case) {
  const TempFile name({});
  std::filesystem::remove(name.path());
  JobOptions options;
  options.read = utc();
  options.case_folder = name.path();
  options.case_in_memory = true;
  QuietProgress quiet;
  JobResult out = run_job(disk, plan, options, quiet);
  if (with_case) with_case(name.path());
  return out;
}

void do_and_undo(const MemoryDevice& disk, const Assessment& plan) {
  if (!plan.in_reach() || plan.steps.empty()) return;
  const auto work = disk.clone();
  QuietProgress quiet;
  expect_answer([&] {
    const JobResult result = convert(*work, plan, [&](const std::filesystem::path& folder) {
      (void)report_html(read_record(folder, work.get()));
      (void)revert_case(*work, load_case(folder), {}, quiet);
    });
    if (result.sound()) return;
    std::string what = plan.steps[0].name() + " lost something";
    for (const Difference& d : result.comparison.differences)
      what += "; " + std::string(name_of(d.kind)) + " " + d.path + " " + d.text;
    for (const Finding& f : result.findings_after)
      what += std::string("; ") + name_of(f.code) + " " + f.text;
    broken(what);
  });
  if (!work->same_as(disk)) broken(plan.steps[0].name() + " or its revert changed the disk");
}

std::unique_ptr<MemoryDevice> ntfs_volume(unsigned more) {
  auto disk = fat_volume(VolumeKind::fat16, more);
  Random random(1);
  const Assessment plan = assess(*disk, {parse_goal("volume=ntfs")}, utc(), random);
  if (!convert(*disk, plan).sound()) broken("the seed does not convert");
  return disk;
}

namespace {

Layout two_partitions(TableKind kind, std::uint64_t sectors) {
  Layout layout;
  layout.kind = kind;
  layout.disk_sectors = sectors;
  layout.disk_signature = 0x4F5252;
  Random random(7);
  Bytes id(16);
  for (unsigned i = 0; i < 2; ++i) {
    Partition p;
    p.number = i + 1;
    p.start = 2048 + i * 40000;
    p.sectors = 1u << 14;
    p.type = std::uint8_t{0x0E};
    if (kind == TableKind::gpt) {
      p.role = Role::gpt;
      p.type = basic_data_guid();
      p.unique_id = remember_type(0x0E, random);
      p.name = "gauge";
    }
    layout.partitions.push_back(p);
  }
  if (kind == TableKind::gpt) {
    layout.disk_guid = remember_type(0x0E, random);
    layout.first_usable = gpt_first_usable(512);
    layout.last_usable = sectors - 34;
  }
  return layout;
}

std::unique_ptr<MemoryDevice> disk_with(TableKind kind) {
  auto disk = std::make_unique<MemoryDevice>(1u << 17, 512);
  const Layout layout = two_partitions(kind, disk->sectors());
  write_new_table(*disk, layout);
  const auto volume = fat_volume(VolumeKind::fat12);
  for (const Partition& p : layout.partitions) {
    for (std::uint64_t lba = volume->next_data(0); lba < volume->sectors();
         lba = volume->next_data(lba + 1)) {
      disk->write(p.start + lba, volume->read(lba));
    }
  }
  return disk;
}

}  // namespace

std::unique_ptr<MemoryDevice> mbr_disk() {
  return disk_with(TableKind::mbr);
}
std::unique_ptr<MemoryDevice> gpt_disk() {
  return disk_with(TableKind::gpt);
}

}  // namespace fuzz
