#include "orrelune.h"

#include <cmath>
#include <filesystem>

#include <fmt/core.h>

#include "disk_bytes.h"

namespace orrelune {
namespace {

using namespace nuvrat;

constexpr std::uint64_t mib = 1u << 20;

Bytes bytes_of(const std::string& text) {
  return {text.begin(), text.end()};
}

Ticks moment(Random& random) {
  const Ticks base = parse_time("2029-01-05T06:00:00Z");
  return base + static_cast<Ticks>(random.below(63'000'000)) * 2 * (ticks_per_second / 2);
}

FatFileInfo info_at(Random& random, Placement placement = Placement::together) {
  FatFileInfo info;
  info.modified = moment(random);
  info.created = info.modified - static_cast<Ticks>(random.below(3600)) * ticks_per_second;
  info.accessed = info.modified;
  info.placement = placement;
  return info;
}

// Water level by the hour: two tides and some noise.
std::string readings(Random& random, unsigned hours) {
  std::string out = "hour,level_mm,water_c,battery_v\n";
  const double phase = static_cast<double>(random.below(628)) / 100;
  for (unsigned h = 0; h < hours; ++h) {
    const double tide = 1400 * std::sin(h * 0.5059 + phase) + 480 * std::sin(h * 0.2625);
    out += fmt::format("{},{:.0f},{:.2f},{:.2f}\n", h, tide + static_cast<double>(random.below(40)),
                       9 + static_cast<double>(random.below(300)) / 100,
                       12.1 + static_cast<double>(random.below(80)) / 100);
  }
  return out;
}

// A short sound: 16-bit mono at 8 kHz, a falling call over noise.
Bytes sound(Random& random, unsigned samples) {
  Bytes out = bytes_of("RIFF....WAVEfmt ");
  const auto put = [&out](std::uint32_t value, unsigned bytes) {
    for (unsigned i = 0; i < bytes; ++i) out.push_back(static_cast<std::uint8_t>(value >> 8 * i));
  };
  put(16, 4);
  put(1, 2);
  put(1, 2);
  put(8000, 4);
  put(16000, 4);
  put(2, 2);
  put(16, 2);
  for (const char c : {'d', 'a', 't', 'a'}) out.push_back(static_cast<std::uint8_t>(c));
  put(samples * 2, 4);
  for (unsigned i = 0; i < samples; ++i) {
    const double t = i / 8000.0;
    const double call = 9000 * std::sin(6.2832 * (900 - 200 * t) * t);
    put(static_cast<std::uint32_t>(static_cast<std::int32_t>(call) +
                                   static_cast<std::int32_t>(random.below(600))),
        2);
  }
  for (unsigned i = 0; i < 4; ++i)
    out[4 + i] = static_cast<std::uint8_t>((out.size() - 8) >> 8 * i);
  return out;
}

std::string drawing(Random& random) {
  std::string out = "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 400 300\">\n";
  for (int i = 0; i < 40; ++i) {
    out += fmt::format("  <line x1=\"{}\" y1=\"{}\" x2=\"{}\" y2=\"{}\" stroke=\"black\"/>\n",
                       random.below(400), random.below(300), random.below(400), random.below(300));
  }
  return out + "</svg>\n";
}

void add_names(FatWriter& w, Random& random) {
  w.add_directory("Names of the moorings", info_at(random));
  const char* names[] = {
      "Málaga señal ñandú.txt",
      "Ωμέγα πλωτήρας.txt",
      "Буй Северный.txt",
      "潮位観測 三号.txt",
      "عوامة.txt",
      "𝄞 call of the buoy.txt",
      "README.TXT",
      "readme too.Txt",
      "lower.txt",
      ("a name with a great many words in it, so that it takes several entries of a "
       "folder and nobody can read it in one go.txt")};
  for (const char* name : names) {
    w.add_file(std::string("Names of the moorings/") + name, bytes_of(readings(random, 30)),
               info_at(random));
  }
}

void add_notes(FatWriter& w, Random& random) {
  w.add_directory("CALIB", info_at(random));
  for (int i = 1; i <= 12; ++i) {
    FatFileInfo info = info_at(random);
    if (i % 4 == 0) info.attributes = attr_read_only | attr_archive;
    w.add_file(fmt::format("CALIB/NOTE{:02}.TXT", i),
               bytes_of(fmt::format("Calibration {} of the Orrelune gauge.\nOffset {} mm.\n", i,
                                    random.below(20))),
               info);
  }
  w.add_file("CALIB/EMPTY.DAT", {}, info_at(random));
  FatFileInfo hidden = info_at(random);
  hidden.attributes = attr_hidden | attr_system;
  w.add_file("CALIB/station.cfg", bytes_of("station=orrelune\ninterval=3600\n"), hidden);
}

void add_deep(FatWriter& w, Random& random) {
  std::string path = "Archive";
  w.add_directory(path, info_at(random));
  for (int level = 1; level <= 12; ++level) {
    path += fmt::format("/level {}", level);
    w.add_directory(path, info_at(random));
  }
  w.add_file(path + "/the deepest reading.csv", bytes_of(readings(random, 200)), info_at(random));
}

struct Plan {
  Role role;
  VolumeKind kind;
  std::uint64_t start_mib;
  std::uint64_t size_mib;
  std::uint32_t cluster_bytes;
  const char* label;
  unsigned files;
  bool odd_data_area;  ///< reserved sectors such that the data area is no multiple of a cluster
};

constexpr Plan logger_plan[] = {
    {Role::primary, VolumeKind::fat32, 1, 600, 4096, "GAUGES", 160, false},
    {Role::primary, VolumeKind::fat32, 640, 700, 8192, "MOORINGS", 90, true},
    {Role::logical, VolumeKind::fat16, 1401, 120, 4096, "CALIBRATE", 40, false},
    {Role::logical, VolumeKind::fat32, 1600, 1200, 4096, "HYDROPHONE", 60, true},
    {Role::logical, VolumeKind::fat16, 2900, 60, 4096, "DRAWINGS", 30, false},
};

Layout logger_layout(const Device& device, Random& random) {
  Layout layout = disk_bytes::mbr(device.sectors(), device.sector_size(),
                                  static_cast<std::uint32_t>(random.next() | 1));
  const std::uint64_t per_mib = mib / device.sector_size();
  const SectorRange container{1400 * per_mib, 2000 * per_mib};
  for (const Plan& plan : logger_plan) {
    Partition& p =
        disk_bytes::add(layout, plan.role, {plan.start_mib * per_mib, plan.size_mib * per_mib},
                        plan.kind == VolumeKind::fat32 ? 0x0C : 0x06);
    p.active = p.number == 1;
    if (plan.role == Role::logical)
      p.table_sector = p.number == 5 ? container.first : p.start - per_mib;
  }
  disk_bytes::add(layout, Role::extended, container, 0x0F);
  layout.sort();
  return layout;
}

void fill_partition(Device& device, const Partition& p, const Plan& plan, Random& random,
                    bool bad_clusters) {
  WritableWindow window(device, p.range());
  FatFormat format;
  format.kind = plan.kind;
  format.cluster_sectors = std::max(1u, plan.cluster_bytes / device.sector_size());
  if (plan.odd_data_area) format.reserved_sectors = 35;
  format.label = plan.label;
  format.serial = static_cast<std::uint32_t>(random.next());
  format.hidden_sectors = p.start;
  FatWriter writer(window, format);
  fill_volume(writer, random, plan.files);
  if (bad_clusters) writer.mark_bad(60000, 3);
  writer.finish();
}

}  // namespace

std::uint64_t logger_sectors(std::uint32_t sector_size) {
  return 4096 * mib / sector_size;
}

void fill_volume(FatWriter& w, Random& random, unsigned files) {
  w.add_directory("Readings", info_at(random));
  for (unsigned i = 0; i < files; ++i) {
    const std::string year = fmt::format("Readings/{}", 2029 + i / 60);
    if (i % 60 == 0) w.add_directory(year, info_at(random));
    const Placement placement = i % 7 == 3 ? Placement::scattered : Placement::together;
    w.add_file(fmt::format("{}/gauge {} day {:03}.csv", year, i % 3 + 1, i),
               bytes_of(readings(random, 24 + static_cast<unsigned>(random.below(900)))),
               info_at(random, placement));
  }
  w.add_directory("SOUND", info_at(random));
  for (unsigned i = 0; i < files / 10; ++i) {
    w.add_file(fmt::format("SOUND/CALL{:03}.WAV", i),
               sound(random, 4000 + static_cast<unsigned>(random.below(60000))),
               info_at(random, i % 3 == 0 ? Placement::scattered : Placement::together));
  }
  w.add_directory("Drawings", info_at(random));
  for (unsigned i = 0; i < 8; ++i) {
    w.add_file(fmt::format("Drawings/mooring {}.svg", i + 1), bytes_of(drawing(random)),
               info_at(random));
  }
  add_names(w, random);
  add_notes(w, random);
  add_deep(w, random);
  w.add_file("last on the disk.csv", bytes_of(readings(random, 300)),
             info_at(random, Placement::at_end));
}

std::uint64_t stick_sectors(std::uint32_t sector_size) {
  return 1024 * mib / sector_size;
}

namespace {

void make_stick(Device& device, std::uint64_t seed, const char* label, std::uint32_t serial) {
  Random random(seed);
  FatFormat format;
  format.cluster_sectors = 4096 / device.sector_size();
  format.label = label;
  format.serial = serial;
  FatWriter writer(device, format);
  fill_volume(writer, random, 240);
  writer.mark_bad(90000, 6);
  writer.finish();
}

}  // namespace

void make_stick(Device& device, std::uint64_t seed) {
  make_stick(device, seed, "BUOY 12", 0x0B0712A5);
}

void make_worn_stick(Device& device, std::uint64_t seed) {
  make_stick(device, seed, "BUOY 9", 0x0B0709E1);
  const std::uint32_t size = device.sector_size();
  const auto number = [](const Bytes& bytes, std::size_t at) {
    return bytes[at] | static_cast<std::uint32_t>(bytes[at + 1]) << 8 |
           static_cast<std::uint32_t>(bytes[at + 2]) << 16 |
           static_cast<std::uint32_t>(bytes[at + 3]) << 24;
  };
  const auto put = [](Bytes& bytes, std::size_t at, std::uint32_t value) {
    for (unsigned i = 0; i < 4; ++i) bytes[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
  };
  const Bytes boot = device.read(0);
  const std::uint64_t fat = disk_bytes::little(boot, 14, 2);
  const std::uint64_t sectors = number(boot, 36);
  const auto set_entry = [&](std::uint32_t cluster, std::uint32_t value, bool both) {
    for (std::uint64_t copy = fat; copy <= fat + (both ? sectors : 0); copy += sectors) {
      const std::uint64_t lba = copy + std::uint64_t{cluster} * 4 / size;
      Bytes sector = device.read(lba);
      put(sector, std::size_t{cluster} * 4 % size, value);
      device.write(lba, sector);
    }
  };
  for (std::uint32_t c = 200000; c < 200005; ++c) set_entry(c, c + 1, true);
  set_entry(200005, 0x0FFFFFFF, true);
  set_entry(200100, 0x0FFFFFFF, true);
  Bytes second = device.read(fat + sectors + 40);
  put(second, 16, 0x00001234);
  device.write(fat + sectors + 40, second);
  Bytes info = device.read(1);
  put(info, 488, 1000);
  device.write(1, info);
}

std::uint64_t archive_sectors(std::uint32_t sector_size) {
  return 3072 * mib / sector_size;
}

void make_archive_disk(Device& device, std::uint64_t seed) {
  Random random(seed);
  Layout layout = disk_bytes::gpt(device.sectors(), device.sector_size(), random);
  constexpr Plan plans[] = {
      {Role::gpt, VolumeKind::fat32, 1, 400, 4096, "TIDES", 60, false},
      {Role::gpt, VolumeKind::fat32, 402, 500, 4096, "WAVES", 50, true},
      {Role::gpt, VolumeKind::fat16, 903, 100, 4096, "NOTES", 30, false},
      {Role::gpt, VolumeKind::fat32, 1004, 600, 8192, "SOUNDS", 40, false},
      {Role::gpt, VolumeKind::fat16, 1605, 120, 4096, "CHARTS", 30, false},
      {Role::gpt, VolumeKind::fat32, 1726, 800, 4096, "YEARS", 70, true},
  };
  const std::uint64_t per_mib = mib / device.sector_size();
  for (const Plan& plan : plans) {
    Partition& p =
        disk_bytes::add(layout, {plan.start_mib * per_mib, plan.size_mib * per_mib}, random);
    p.name = plan.label;
    p.active = p.number == 1;
  }
  write_new_table(device, layout);
  for (std::size_t i = 0; i < layout.partitions.size(); ++i) {
    fill_partition(device, layout.partitions[i], plans[i], random, false);
  }
}

std::string logger_image(const std::filesystem::path& path) {
  create_image(path, logger_sectors(512), 512, true);
  const auto device = open_device(path, {true, 512});
  make_logger_disk(*device);
  return path.string();
}

void make_logger_disk(Device& device, std::uint64_t seed) {
  Random random(seed);
  const Layout layout = logger_layout(device, random);
  write_new_table(device, layout);
  const std::vector<Partition> parts = layout.data_partitions();
  for (std::size_t i = 0; i < parts.size(); ++i) {
    fill_partition(device, parts[i], logger_plan[i], random, i == 1);
  }
}

std::uint64_t instrument_sectors(std::uint32_t sector_size) {
  return (std::uint64_t{2} << 30) / sector_size;
}

void play(Device& device, const std::string& words, std::uint64_t seed) {
  Random random(seed);
  ReadOptions options;
  QuietProgress quiet;
  std::vector<Goal> goals;
  for (std::size_t at = 0; at < words.size();) {
    const std::size_t end = std::min(words.find(' ', at), words.size());
    goals.push_back(parse_goal(words.substr(at, end - at)));
    at = end + 1;
  }
  for (const Step& step : assess(device, goals, options, random).steps) {
    Overlay overlay(device);
    const auto rehearsed = make_rewrite(step, overlay);
    const Inspection inspection = Engine::inspect(*rehearsed, overlay, OwnedBy(step));
    const auto rewrite = make_rewrite(step, device);
    Engine(device, quiet).run(*rewrite, inspection);
  }
}

void align_data(FatFormat& format, std::uint64_t sectors, std::uint32_t sector_size, bool aligned) {
  if (format.reserved_sectors == 0)
    format.reserved_sectors = format.kind == VolumeKind::fat32 ? 32 : 1;
  for (int round = 0; round < 3; ++round) {
    MemoryDevice trial(sectors, sector_size);
    FatWriter(trial, format).finish();
    const auto first = open_volume(trial, ReadOptions{Zone(), 437})->info().first_cluster;
    const auto over = static_cast<std::uint32_t>(first % format.cluster_sectors);
    if (aligned && over != 0) format.reserved_sectors += format.cluster_sectors - over;
    if (!aligned && over == 0 && format.cluster_sectors > 1) format.reserved_sectors += 1;
  }
}

void make_instrument_disk(Device& device, std::uint64_t seed) {
  const std::uint64_t mebi = (1u << 20) / device.sector_size();
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.sector_size = device.sector_size();
  layout.disk_sectors = device.sectors();
  layout.disk_signature = 0x0DD51E70;
  Partition p;
  p.number = 1;
  p.start = mebi;
  p.sectors = device.sectors() - 2 * mebi;
  p.type = std::uint8_t{0x0C};
  layout.partitions.push_back(p);
  write_new_table(device, layout);
  WritableWindow window(device, p.range());
  FatFormat format;
  format.cluster_sectors = 16384 / device.sector_size();
  format.label = "GAUGE 3";
  format.serial = 0x06A63E03;
  format.hidden_sectors = p.start;
  format.reserved_sectors = 42;
  FatWriter writer(window, format);
  Random random(seed);
  Bytes sound(40u << 20);
  random.fill(sound);
  writer.add_directory("SOUNDS");
  writer.add_file("SOUNDS/harbour, one night.raw", sound);
  fill_volume(writer, random, 120);
  writer.finish();
  play(device, "p1=ntfs", seed);
}

}  // namespace orrelune
