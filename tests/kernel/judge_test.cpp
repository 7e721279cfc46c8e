// A real kernel as judge: the same partitions, the same files, whoever filled the volumes.

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <map>
#include <sstream>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

#include "foreign_ntfs.h"
#include "ntfs_bytes.h"
#include "orrelune.h"
#include "scenarios.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::manifest_of;

namespace {

// Everything that the kernel says of the disks, in the words of the script below.
const char* const look = R"sh(
for disk in $DISKS; do
  parts=/sys/block/$disk/$disk[0-9]*
  ls -d $parts >/dev/null 2>&1 || parts=/sys/block/$disk  # one volume, no table
  for part in $parts; do
    name=$(basename $part)
    [ -e $part/start ] && echo "PART $disk ${name#$disk} $(cat $part/start) $(cat $part/size)"
    mkdir -p /mnt/$name
    mount -t vfat -o ro,iocharset=utf8,codepage=437 /dev/$name /mnt/$name 2>/dev/null ||
      mount -t ntfs3 -o ro /dev/$name /mnt/$name 2>/dev/null ||
      { dmesg | grep "ntfs3($name)" | tail -n 3 | sed "s/^/SAYS /"; continue; }
    cd /mnt/$name
    # In few large requests: the driver asks for records one at a time.
    [ $(cat /sys/class/block/$name/size) -gt 131072 ] || cat /dev/$name >/dev/null
    # A pipe would be a change of process a line.
    if [ "${EVERY:-1}" = 1 ]; then
      find . -type f -exec sha256sum {} + >/tmp/hashes
    else
      find . -type f >/tmp/names
      awk "NR % $EVERY != 0 { print \"-  \" \$0 }" /tmp/names >/tmp/hashes
      awk "NR % $EVERY == 0 { printf \"%s%c\", \$0, 0 }" /tmp/names | xargs -0 sha256sum >>/tmp/hashes
    fi
    sed "s|  \./|  |; s|^|FILE $name |" /tmp/hashes
    cd /
    umount /mnt/$name
  done
done
)sh";

// A process for each file would be most of the work: they go some at a time, and contents are there
// already.
const char* const helpers = R"sh(
gone() { printf '%s\0' "$1" >>/tmp/gone; }
sweep() { [ ! -s /tmp/gone ] || xargs -0 rm -f </tmp/gone; : >/tmp/gone; }
noise=$(head -c 1500 /dev/urandom | od -An -v -t x1 | tr -d ' \n')  # 3,000 bytes
)sh";

struct Seen {
  std::map<std::string, std::string> parts;  // "vda 5" → "start size", in units of 512 bytes
  std::map<std::string, std::string> files;  // "vda5 path" → hash, "-" where it wasn't read
  unsigned every = 1;                        // one in so many is read
};

bool judge_is_here() {
  static const bool here = support::run(std::string(NUVRAT_JUDGE) + "/prepare").status == 0;
  if (!here && std::getenv("CI") != nullptr)
    FAIL("the judging kernel can't be had, and CI must not go without it");
  if (!here) MESSAGE("SKIPPED: no emulator or kernel here; nothing was judged");
  return here;
}

std::string boot(const support::Folder& folder, const std::string& script,
                 const std::string& images) {
  std::ofstream(folder / "script") << script << '\n';
  const auto ran = support::run(
      fmt::format("{}/boot {} {}", NUVRAT_JUDGE, (folder / "script").string(), images));
  REQUIRE_MESSAGE(ran.status == 0, ran.errors);
  return ran.out;
}

// What the kernel saw each time that it looked; a line AGAIN stands between.
std::vector<Seen> parse_all(const std::string& text) {
  std::vector<Seen> all(1);
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) {
    Seen& out = all.back();
    std::istringstream words(line);
    std::string kind, a, b, start, size;
    words >> kind;
    if (kind == "AGAIN") all.emplace_back();
    if (kind == "SAYS") MESSAGE(line);
    if (kind == "PART") {
      words >> a >> b >> start >> size;
      out.parts[a + " " + b] = start + " " + size;
    } else if (kind == "FILE") {
      words >> a >> b;
      out.files[a + " " + line.substr(line.find(b) + b.size() + 2)] = b;
    }
  }
  return all;
}
Seen parse(const std::string& text) {
  return parse_all(text).back();
}

// What the kernel must have seen of this disk.
void must_equal(const Seen& seen, const Layout& layout, const Manifest& manifest,
                const std::string& disk) {
  const std::uint64_t unit = layout.sector_size / 512;
  std::size_t parts = 0;
  for (const Partition& p : layout.data_partitions()) {
    const auto it = seen.parts.find(fmt::format("{} {}", disk, p.number));
    REQUIRE(it != seen.parts.end());
    CHECK(it->second == fmt::format("{} {}", p.start * unit, p.sectors * unit));
    ++parts;
  }
  std::size_t files = 0, hashed = 0;
  for (const ManifestVolume& v : manifest.volumes) {
    for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
      // Where a reparse point leads is no file to the kernel, nor is a stream of one.
      constexpr std::uint32_t reparse = 0x400;
      const bool apart = (v.tree.info(id).attributes & reparse) != 0 ||
                         v.tree.name(id).find(u':') != std::u16string_view::npos;
      if (v.tree.is_directory(id) || apart) continue;
      const std::string name = v.number == 0 ? disk : fmt::format("{}{}", disk, v.number);
      const auto it = seen.files.find(name + " " + v.tree.path(id));
      REQUIRE_MESSAGE(it != seen.files.end(), v.tree.path(id));
      ++files;
      if (it->second == "-") continue;
      CHECK(it->second == v.digests[id].hex());
      ++hashed;
    }
  }
  const auto shown = std::count_if(seen.files.begin(), seen.files.end(),
                                   [&](const auto& f) { return f.first.rfind(disk, 0) == 0; });
  CHECK(files == static_cast<std::size_t>(shown));
  CHECK(hashed + manifest.volumes.size() >= files / seen.every);
  MESSAGE(disk << ": the kernel agrees on " << parts << " partitions and " << files << " files, "
               << hashed << " of them read");
}
void must_equal(const Seen& seen, Device& device, const std::string& disk) {
  must_equal(seen, read_table(device).layout, manifest_of(device), disk);
}

// A FAT volume with a file for each of these bytes, or pairs of them, in its short name: "?" and
// its number. No long names.
void make_names(Device& disk, const std::vector<unsigned>& codes) {
  FatFormat format;
  format.kind = VolumeKind::fat32;
  format.cluster_sectors = 1;
  FatWriter writer(disk, format);
  for (const unsigned code : codes) writer.add_file(fmt::format("QQ{:04X}", code), {});
  writer.finish();
  // By the format's description: eleven bytes at the beginning of an entry.
  for (std::uint64_t lba = 0; lba < disk.sectors(); ++lba) {
    Bytes sector = disk.read(lba);
    bool changed = false;
    for (std::size_t at = 0; at < sector.size(); at += 32) {
      if (sector[at] != 'Q' || sector[at + 1] != 'Q' || sector[at + 6] != ' ') continue;
      const auto code =
          static_cast<unsigned>(std::stoul(std::string(sector.begin() + static_cast<long>(at) + 2,
                                                       sector.begin() + static_cast<long>(at) + 6),
                                           nullptr, 16));
      const std::string number = fmt::format("{:04X}", code);
      std::size_t to = at;
      if (code > 0xFF) sector[to++] = static_cast<std::uint8_t>(code >> 8);
      sector[to++] = static_cast<std::uint8_t>(code);
      if (sector[at] == 0xE5) sector[at] = 0x05;
      std::copy(number.begin(), number.end(), sector.begin() + static_cast<long>(to));
      if (code <= 0xFF) sector[to + 4] = ' ';
      changed = true;
    }
    if (changed) disk.write(lba, sector);
  }
}

// No rule broken, on any volume.
void must_be_sound(const std::filesystem::path& image) {
  ReadOptions options;
  options.zone = Zone();
  const auto device = open_device(image);
  const Findings findings = survey_disk(*device, options, true).all_findings();
  for (const Finding& f : findings)
    MESSAGE(std::string(name_of(f.code)) << ": " << f.text << " " << f.place.text());
  CHECK(findings.empty());
}

void convert(const std::filesystem::path& image, std::uint32_t sector_size,
             const std::filesystem::path& job,
             const std::vector<std::string>& words = {"table=gpt"}) {
  const auto device = open_device(image, {true, sector_size});
  Random random(1);
  QuietProgress quiet;
  JobOptions options;
  options.read.zone = Zone();
  options.case_folder = job;
  std::vector<Goal> goals;
  for (const std::string& word : words) goals.push_back(parse_goal(word));
  const Assessment assessment = assess(*device, goals, options.read, random);
  for (const Obstacle& o : assessment.obstacles) MESSAGE(o.text);
  REQUIRE(run_job(*device, assessment, options, quiet).sound());
}

}  // namespace

namespace {

// Disks that one boot looks at together.
class Jury {
 public:
  /// A new image, filled by `make`; its letter.
  std::string add(std::uint64_t sectors, std::uint32_t sector_size,
                  const std::function<void(Device&)>& make) {
    REQUIRE(sizes_.size() < 26);
    const std::string name = fmt::format("vd{}", static_cast<char>('a' + sizes_.size()));
    sizes_.push_back(sector_size);
    create_image(image(name), sectors, sector_size, true);
    make(*open_device(image(name), {true, sector_size}));
    return name;
  }
  void convert(const std::string& name, const std::vector<std::string>& words) {
    ::convert(image(name), size(name), folder_ / fmt::format("{}-case{}", name, jobs_++), words);
  }
  [[nodiscard]] std::filesystem::path image(const std::string& name) const {
    return folder_ / (name + ".img");
  }
  [[nodiscard]] std::uint32_t size(const std::string& name) const {
    return sizes_[static_cast<std::size_t>(name[2] - 'a')];
  }
  /// One in `every` files is read, the others are listed.
  void look(unsigned every = 1) {
    std::string images, disks;
    for (std::size_t i = 0; i < sizes_.size(); ++i) {
      const std::string name = fmt::format("vd{}", static_cast<char>('a' + i));
      images += fmt::format(" {}:{}", image(name).string(), size(name));
      disks += name + " ";
    }
    seen_ =
        parse(boot(folder_, fmt::format("EVERY={}\nDISKS='{}'{}", every, disks, ::look), images));
    seen_.every = every;
  }
  void must_equal(const std::string& name) const {
    CAPTURE(name);
    ::must_equal(seen_, *open_device(image(name), {false, size(name)}), name);
  }
  [[nodiscard]] const Seen& seen() const { return seen_; }
  [[nodiscard]] const support::Folder& folder() const { return folder_; }

 private:
  support::Folder folder_;
  std::vector<std::uint32_t> sizes_;
  int jobs_ = 0;
  Seen seen_;
};

}  // namespace

TEST_CASE("judge: the kernel sees what was made of the tables, in every direction") {
  if (!judge_is_here()) return;
  Jury jury;
  std::vector<std::string> disks;
  const std::vector<std::vector<std::vector<std::string>>> chains = {
      {{"table=gpt"}},
      {{"p2=logical"}},
      {{"p5=primary"}},
      {{"table=gpt"}, {"p2.name=Boje", "p5.active=yes"}},
      {{"table=gpt"}, {"table=mbr", "p1.active=yes"}},
  };
  const auto make_logger = [](Device& d) { orrelune::make_logger_disk(d); };
  for (std::size_t i = 0; i <= chains.size(); ++i) {  // the first one at 4096, too
    const std::uint32_t size = i == chains.size() ? 4096 : 512;
    disks.push_back(jury.add(orrelune::logger_sectors(size), size, make_logger));
    for (const auto& words : chains[i % chains.size()]) jury.convert(disks.back(), words);
  }
  for (const std::uint32_t size : {512u, 4096u}) {
    disks.push_back(jury.add(orrelune::archive_sectors(size), size,
                             [](Device& d) { orrelune::make_archive_disk(d); }));
    jury.convert(disks.back(), {"table=mbr"});
  }
  jury.look();
  for (const std::string& name : disks) jury.must_equal(name);
}

TEST_CASE("judge: the kernel's NTFS driver reads the volumes that were hard to make") {
  if (!judge_is_here()) return;
  Jury jury;
  std::vector<std::string> disks;
  // An index of 4,000 long names is as deep as one of 60,000 short ones, four blocks, and looked at
  // in a tenth of the time.
  for (const volumes::Volume& volume :
       support::is_long() ? volumes::all() : volumes::all(4000, 140)) {
    CAPTURE(volume.name);
    disks.push_back(jury.add(volume.sectors, volume.sector_size, volume.make));
    jury.convert(disks.back(), {"volume=ntfs"});
  }
  // What no FAT volume ever had: the kernel unpacks what the reader unpacks.
  support::NtfsBytes rare;
  const auto wanted = support::make_rare_contents(rare);
  const std::string name = jury.add(rare.disk->sectors(), 512,
                                    [&rare](Device& image) { copy_device(*rare.disk, image); });
  // The volumes of other hands, as they are: whether the tests' own maker keeps the rules.
  for (const foreign::NtfsShape& shape : foreign::ntfs_shapes()) {
    constexpr std::uint64_t bytes = 32u << 20;
    disks.push_back(jury.add(
        bytes / shape.sector_bytes, shape.sector_bytes,
        [&shape](Device& image) { copy_device(*foreign::ntfs(shape, bytes).disk, image); }));
  }
  jury.look();
  for (const std::string& disk : disks) jury.must_equal(disk);
  for (const char* file : {"UNITS.BIN", "A.BIN"}) {
    CAPTURE(std::string(file));
    const auto it = jury.seen().files.find(name + " " + file);
    REQUIRE(it != jury.seen().files.end());
    CHECK(it->second == Sha256::of(wanted.at(file)).hex());
  }
}

// Fifteen volumes a disk, four disks.
TEST_CASE("judge: the kernel mounts every one of 60 aged volumes with small clusters") {
  if (!judge_is_here()) return;
  Jury jury;
  std::vector<std::string> disks;
  for (unsigned disk = 0; disk < 4; ++disk) {
    Random random(disk);
    Layout layout;
    layout.kind = TableKind::gpt;
    layout.disk_guid = Guid::random(random);
    layout.first_usable = gpt_first_usable(512);
    std::uint64_t at = 2048;
    std::vector<std::string> goals;
    for (unsigned i = 0; i < 15; ++i) {
      Partition p;
      p.number = i + 1;
      p.role = Role::gpt;
      p.start = at;
      p.sectors = volumes::aged(disk * 15 + i).sectors;
      p.type = basic_data_guid();
      p.unique_id = Guid::random(random);
      layout.partitions.push_back(p);
      goals.push_back(fmt::format("p{}=ntfs", p.number));
      at += (p.sectors + 2047) / 2048 * 2048;
    }
    layout.disk_sectors = at + 2048;
    layout.last_usable = layout.disk_sectors - 34;
    disks.push_back(jury.add(layout.disk_sectors, 512, [&](Device& device) {
      write_new_table(device, layout);
      for (const Partition& p : layout.partitions) {
        WritableWindow window(device, p.range());
        volumes::aged(disk * 15 + p.number - 1).make(window);
      }
    }));
    jury.convert(disks.back(), goals);
  }
  // What Nuvrat once made of such a volume: the kernel doesn't take it, and the check says why.
  const auto kept = jury.folder() / "kept.img";
  support::unpack_image("split-start", kept);
  const auto old = open_device(kept);
  const Findings findings = check_volume(*old, support::utc());
  CHECK(find_code(findings, Rule::ntfs_mft_start) != nullptr);
  CHECK(find_code(findings, Rule::ntfs_mft_split) != nullptr);
  const std::string refused =
      jury.add(old->sectors(), 512, [&old](Device& image) { copy_device(*old, image); });
  jury.look(support::is_long() ? 1 : 3);
  for (const std::string& name : disks) jury.must_equal(name);
  const auto& files = jury.seen().files;
  CHECK(std::none_of(files.begin(), files.end(),
                     [&](const auto& f) { return f.first.rfind(refused, 0) == 0; }));
}

namespace {

// A machine takes so many disks, and no more.
void look_at_every_rewrite(std::size_t part, std::size_t parts) {
  if (!judge_is_here()) return;
  Jury jury;
  QuietProgress quiet;
  std::vector<std::string> disks;
  for (std::size_t i = part; i < scenarios::all().size(); i += parts) {
    const scenarios::Scenario& scenario = scenarios::all()[i];
    disks.push_back(jury.add(scenario.sectors, scenario.sector_size, scenario.make));
    const auto device = open_device(jury.image(disks.back()), {true, scenario.sector_size});
    JobOptions options;
    options.read.zone = Zone();
    options.case_folder = jury.folder() / (disks.back() + "-case");
    REQUIRE(run_job(*device, scenario.assess(*device), options, quiet).sound());
  }
  jury.look();
  for (const std::string& name : disks) jury.must_equal(name);
}

}  // namespace

TEST_CASE("judge 1 of 2: the kernel sees what every rewrite in the list of scenarios left") {
  look_at_every_rewrite(0, 2);
}
TEST_CASE("judge 2 of 2: the kernel sees what every rewrite in the list of scenarios left") {
  look_at_every_rewrite(1, 2);
}

namespace {

// Of the scenarios whose names hold one of the words: four of them.
void look_at_cuts(const std::vector<std::string>& words) {
  if (!judge_is_here()) return;
  Jury jury;
  QuietProgress quiet;
  std::vector<std::string> disks;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    if (std::none_of(words.begin(), words.end(), [&](const std::string& word) {
          return scenario.name.find(word) != std::string::npos;
        }))
      continue;
    MemoryDevice original(scenario.sectors, scenario.sector_size);
    scenario.make(original);
    const Assessment assessment = scenario.assess(original);
    const auto options = [&](const std::string& name) {
      JobOptions out;
      out.read.zone = Zone();
      out.case_folder = jury.folder() / name;
      return out;
    };
    const auto whole = original.clone();
    FaultDevice counter(*whole, {});
    REQUIRE(run_job(counter, assessment, options(scenario.name), quiet).sound());
    // In every phase: the beginning, the middle, before the last switch, and while it settles.
    const std::uint64_t all = counter.sectors_written();
    for (const std::uint64_t at : {all / 5, all / 2, all - 6, all - 3, all - 1, all}) {
      const auto cut = original.clone();
      FaultPlan plan;
      plan.cut_before = at;
      plan.seed = at;
      FaultDevice device(*cut, plan);
      CHECK(support::code_of([&] {
              (void)run_job(device, assessment, options(fmt::format("{} {}", scenario.name, at)),
                            quiet);
            }) == ErrorCode::cut_off);
      disks.push_back(jury.add(scenario.sectors, scenario.sector_size,
                               [&cut](Device& image) { copy_device(*cut, image); }));
    }
  }
  CHECK(disks.size() == 24);
  jury.look();
  for (const std::string& name : disks) jury.must_equal(name);
}

}  // namespace

TEST_CASE("judge: the kernel mounts what the power left of a volume that changes its format") {
  look_at_cuts({"FAT16", "NTFS to FAT32"});
}
TEST_CASE("judge: the kernel mounts what the power left of volumes that change their size") {
  look_at_cuts({"NTFS longer", "NTFS shorter", "FAT longer", "room given"});
}
TEST_CASE("judge: the kernel mounts what the power left of volumes that begin earlier") {
  look_at_cuts({"to the front"});
}

namespace {

// Played step by step, so that the disk between them is the one that is looked at.
void write_after(const std::vector<std::string>& words, std::size_t steps) {
  if (!judge_is_here()) return;
  const support::Folder folder;
  const auto image = folder / "edited.img";
  create_image(image, orrelune::instrument_sectors(512), 512, true);
  {
    const auto device = open_device(image, {true, 512});
    orrelune::make_instrument_disk(*device);
    Random random(1);
    QuietProgress quiet;
    std::vector<Goal> goals;
    std::transform(words.begin(), words.end(), std::back_inserter(goals), parse_goal);
    const Assessment a = assess(*device, goals, support::utc(), random);
    REQUIRE(a.steps.size() >= steps);
    const std::string seal = manifest_of(*device).seal();
    for (std::size_t i = 0; i < steps; ++i) {
      const Step& step = a.steps[i];
      Overlay overlay(*device);
      const Inspection inspection =
          Engine::inspect(*make_rewrite(step, overlay), overlay, OwnedBy(step));
      Engine(*device, quiet).run(*make_rewrite(step, *device), inspection);
      CHECK(manifest_of(*device).seal() == seal);
    }
  }
  must_be_sound(image);
  const char* const write = R"sh(
mkdir -p /mnt/1
mount -t ntfs3 /dev/vda1 /mnt/1 || echo "MOUNT FAILED"
cd /mnt/1
mkdir -p new
i=0
while [ $i -lt 2500 ]; do
  echo "reading $i" > "new/a rather long name for reading number $i of this volume.txt"
  [ $((i % 3)) = 0 ] && gone "new/a rather long name for reading number $i of this volume.txt"
  [ $((i % 5)) = 1 ] && mv "new/a rather long name for reading number $i of this volume.txt" "new/moved $i"
  [ $((i % 30)) = 29 ] && sweep
  i=$((i + 1))
done
sweep
dd if=/dev/urandom of=large bs=100000 count=40 2>/dev/null
cd /
sync
umount /mnt/1
)sh";
  const Seen seen =
      parse(boot(folder, std::string(helpers) + write + "\nDISKS=vda" + look, image.string()));
  CHECK(seen.files.size() > 1500);
  must_equal(seen, *open_device(image), "vda");
  must_be_sound(image);
}

}  // namespace

TEST_CASE("judge: the kernel goes on writing on an NTFS volume in which way was made") {
  write_after({"p1=fat32"}, 1);
}
TEST_CASE("judge: the kernel goes on writing on an NTFS volume that became shorter") {
  write_after({"p1.size=-1GiB", "p1.label=Boje"}, 3);
}
TEST_CASE("judge: the kernel goes on writing on an NTFS volume that begins earlier") {
  write_after({"p1.front=max", "p1.label=Boje"}, 2);
}

TEST_CASE("judge: a disk that the kernel filled itself is read and converted with its own hashes") {
  if (!judge_is_here()) return;
  const support::Folder folder;
  const auto image = folder / "filled.img";
  create_image(image, 2u << 20, 512, true);
  {
    const auto device = open_device(image, {true, 512});
    Layout layout = disk_bytes::mbr(device->sectors(), 512, 77);
    for (const SectorRange& place :
         {SectorRange{2048, 600000}, SectorRange{652048, 120000}, SectorRange{1302048, 7000}})
      disk_bytes::add(layout, Role::primary, place, 0x0C);
    write_new_table(*device, layout);
    for (const Partition& p : layout.partitions) {
      WritableWindow window(*device, p.range());
      FatFormat format;
      format.kind = p.number == 1   ? VolumeKind::fat32
                    : p.number == 2 ? VolumeKind::fat16
                                    : VolumeKind::fat12;
      format.cluster_sectors = p.number == 1 ? 1 : 4;
      FatWriter(window, format).finish();
    }
  }
  // Creates, grows in turns so that files are fragmented, deletes, renames; long names of many
  // scripts.
  const char* const fill = R"sh(
for n in 1 2 3; do
  mkdir -p /mnt/$n
  mount -t vfat -o iocharset=utf8,codepage=437 /dev/vda$n /mnt/$n || echo "MOUNT $n FAILED"
  cd /mnt/$n
  [ $n = 1 ] && many=700 || many=120
  mkdir -p 'Глубина/潮位/a long folder name with spaces' UPPER lower.dir
  i=0
  while [ $i -lt $many ]; do
    echo "reading $i of volume $n" > "UPPER/FILE$i.TXT"
    echo "note $i" > "lower.dir/a rather long name for note number $i.text"
    [ $((i % 3)) = 0 ] && gone "UPPER/FILE$i.TXT"
    [ $((i % 5)) = 1 ] && mv "lower.dir/a rather long name for note number $i.text" "Глубина/潮位/Ноты $i Ωμέγα.txt"
    [ $((i % 30)) = 29 ] && sweep
    i=$((i + 1))
  done
  sweep
  i=0
  while [ $i -lt 40 ]; do
    echo "$i$noise" >> one.bin
    echo "$noise$i" >> two.bin
    i=$((i + 1))
  done
  : > empty
  cp one.bin 'Глубина/潮位/a long folder name with spaces/copy.bin'
  cd /
  sync
  umount /mnt/$n
done
)sh";
  const Seen filled =
      parse(boot(folder, std::string(helpers) + fill + "\nDISKS=vda" + look, image.string()));
  CHECK(filled.files.size() > 1200);
  must_equal(filled, *open_device(image), "vda");
  convert(image, 512, folder / "case");
  must_be_sound(image);

  // To NTFS: the other driver must give back what the FAT driver gave.
  convert(image, 512, folder / "ntfs", {"p1=ntfs", "p2=ntfs", "p3=ntfs"});
  must_be_sound(image);

  // And it must be able to go on writing there, until folders have several levels.
  const char* const write = R"sh(
for n in 1 2 3; do
  mount -t ntfs3 /dev/vda$n /mnt/$n 2>/dev/null || { mkdir -p /mnt/$n; mount -t ntfs3 /dev/vda$n /mnt/$n; } ||
    echo "MOUNT $n FAILED"
  cd /mnt/$n
  [ $n = 1 ] && many=900 || many=100
  mkdir -p big 'Глубина/潮位/new'
  i=0
  while [ $i -lt $many ]; do
    echo "reading $i" > "big/a rather long name for reading number $i of this volume.txt"
    [ $((i % 3)) = 0 ] && gone "big/a rather long name for reading number $i of this volume.txt"
    [ $((i % 5)) = 1 ] && mv "big/a rather long name for reading number $i of this volume.txt" "Глубина/潮位/new/Ноты $i Ωμέγα.txt"
    [ $((i % 30)) = 29 ] && sweep
    i=$((i + 1))
  done
  sweep
  i=0
  while [ $i -lt 30 ]; do
    echo "$i$noise" >> one.bin
    echo "$noise$i" >> three.bin
    i=$((i + 1))
  done
  rm -r UPPER
  ln one.bin 'another name of one.bin'
  ln -s one.bin leads
  truncate -s 900000 grown.bin
  echo tail >> grown.bin
  truncate -s 500000 never.bin
  cd /
  sync
  umount /mnt/$n
done
)sh";
  const std::vector<Seen> as_ntfs = parse_all(
      boot(folder, std::string(helpers) + "DISKS=vda" + look + "echo AGAIN\n" + write + look,
           image.string()));
  REQUIRE(as_ntfs.size() == 2);
  CHECK(as_ntfs[0].files == filled.files);
  CHECK(as_ntfs[0].parts == filled.parts);
  const Seen& written = as_ntfs[1];
  CHECK(written.files.size() > 1500);
  must_equal(written, *open_device(image), "vda");
  must_be_sound(image);

  // Other sizes and another start, of volumes as a kernel leaves them.
  convert(image, 512, folder / "sizes",
          {"p1.size=-60MiB", "p2.front=max", "p2.size=max", "p3.size=min"});
  const Seen moved = parse(boot(folder, std::string("DISKS=vda") + look, image.string()));
  CHECK(moved.files == written.files);
  must_equal(moved, *open_device(image), "vda");
  must_be_sound(image);

  // Back to FAT: hard links become copies, a link to a name an empty file; the FAT driver must give
  // what the NTFS driver gave, and go on writing.
  convert(image, 512, folder / "back", {"p1=fat32", "p2=fat16"});
  const Layout fat_layout = read_table(*open_device(image)).layout;
  const Manifest fat_manifest = manifest_of(*open_device(image));
  const char* const on_fat = R"sh(
for n in 1 2; do
  mount -t vfat -o iocharset=utf8,codepage=437 /dev/vda$n /mnt/$n 2>/dev/null || { mkdir -p /mnt/$n; mount -t vfat -o iocharset=utf8,codepage=437 /dev/vda$n /mnt/$n; } ||
    echo "MOUNT $n FAILED"
  cd /mnt/$n
  [ $n = 1 ] && many=400 || many=60
  mkdir -p after
  i=0
  while [ $i -lt $many ]; do
    echo "reading $i" > "after/a rather long name for reading number $i.txt"
    [ $((i % 3)) = 0 ] && gone "after/a rather long name for reading number $i.txt"
    [ $((i % 30)) = 29 ] && sweep
    i=$((i + 1))
  done
  sweep
  rm -r big
  dd if=/dev/urandom bs=3000 count=20 2>/dev/null >> one.bin
  cd /
  sync
  umount /mnt/$n
done
)sh";
  const std::vector<Seen> fat = parse_all(
      boot(folder, std::string(helpers) + "DISKS=vda" + look + "echo AGAIN\n" + on_fat + look,
           image.string()));
  REQUIRE(fat.size() == 2);
  const Seen& back = fat[0];
  must_equal(back, fat_layout, fat_manifest, "vda");
  for (const auto& [path, hash] : written.files) {
    const auto there = back.files.find(path);
    if (there == back.files.end() || there->second != hash) FAIL_CHECK(path << " is another file");
  }
  const Seen& more = fat[1];
  CHECK(more.files.size() > 800);
  must_equal(more, *open_device(image), "vda");
  must_be_sound(image);

  // And FAT's sizes, as its driver leaves them.
  convert(image, 512, folder / "fat sizes", {"p1.size=-20MiB", "p2.front=max", "p2.size=max"});
  const Seen last = parse(boot(folder, std::string("DISKS=vda") + look, image.string()));
  CHECK(last.files == more.files);
  must_equal(last, *open_device(image), "vda");
  must_be_sound(image);
}

TEST_CASE("judge: a real kernel reads short names of its code pages as we do") {
  if (!judge_is_here()) return;
  constexpr unsigned pages[] = {437, 737, 775, 850, 852, 855, 857, 860, 861,  862,  863, 864,
                                865, 866, 869, 874, 932, 936, 949, 950, 1250, 1251, 1255};
  const support::Folder folder(support::Folder::Where::memory);
  std::vector<unsigned> single, pairs;
  for (unsigned c = 0x80; c < 0x100; ++c) single.push_back(c);
  for (unsigned lead = 0x81; lead < 0xFF; lead += 5) {
    for (unsigned trail = 0x40; trail < 0xFF; trail += 3) {
      if (trail != 0x7F) pairs.push_back(lead << 8 | trail);
    }
  }
  create_image(folder / "single", 80000, 512, false);
  make_names(*open_device(folder / "single", {true}), single);
  create_image(folder / "pairs", 120000, 512, false);
  make_names(*open_device(folder / "pairs", {true}), pairs);
  std::string script =
      "for page in /pages/*.ko; do insmod $page 2>/dev/null; done\nmkdir -p /mnt/a\n";
  for (const unsigned page : pages) {
    const bool wide = page == 932 || page == 936 || page == 949 || page == 950;
    script += fmt::format(
        "mount -t vfat -o ro,iocharset=utf8,codepage={0} /dev/{1} /mnt/a && "
        "{{ cd /mnt/a; find . -type f | sed 's|^./|NAME {0} |'; cd /; umount /mnt/a; }}\n",
        page, wide ? "vdb" : "vda");
  }
  const std::string said =
      boot(folder, script, (folder / "single").string() + " " + (folder / "pairs").string());
  INFO(said.substr(0, 300));
  std::istringstream in(said);
  std::map<unsigned, unsigned> agreed;
  unsigned differs = 0;
  for (std::string line; std::getline(in, line);) {
    std::istringstream words(line);
    std::string kind, name;
    unsigned number = 0;
    words >> kind >> number >> name;
    if (kind != "NAME" || name.size() < 5) continue;
    const std::string hex = name.substr(name.size() - 4);
    const std::u16string seen = to_utf16(name.substr(0, name.size() - 4));
    // What isn't in its table the kernel shows as a mark.
    if (seen.size() != 1 || seen[0] < 0x80) continue;
    const auto code = static_cast<unsigned>(std::stoul(hex, nullptr, 16));
    Bytes raw;
    if (code > 0xFF) raw.push_back(static_cast<std::uint8_t>(code >> 8));
    raw.push_back(static_cast<std::uint8_t>(code));
    // Its table of 1255 is older than the published one in these two.
    if (number == 1255 && (code == 0xAF || code == 0xDF)) continue;
    const std::u16string ours = CodePage(number).decode(raw);
    if (ours == seen) {
      ++agreed[number];
    } else if (++differs < 40) {
      MESSAGE(fmt::format("{}: {} is {:04X} to the kernel, {:04X} here", number, hex,
                          static_cast<unsigned>(seen[0]), static_cast<unsigned>(ours[0])));
    }
  }
  std::uint64_t all = 0;
  for (const auto& [page, count] : agreed) all += count;
  MESSAGE("the kernel agrees on " << all << " characters of " << agreed.size()
                                  << " code pages, and " << differs << " differ");
  CHECK(agreed.size() == std::size(pages));
  CHECK(differs == 0);
}
