// nuvrat_bench FOLDER: ratios, each measured in one run on images in FOLDER.

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <map>

#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "orrelune.h"

using namespace nuvrat;

namespace {

double seconds(const std::function<void()>& work) {
  const auto begin = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

double median(std::vector<double> values) {
  std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2),
                   values.end());
  return values[values.size() / 2];
}

// The writing part of MBR to GPT, with the undo journal and without, and a plain write and flush of
// as many sectors.
void bench_rewrite(const std::filesystem::path& folder, std::uint64_t sectors) {
  const auto image = folder / "bench.img";
  create_image(image, sectors, 512, true);
  const auto device = open_device(image, {true, 512});
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.disk_sectors = sectors;
  Partition p;
  p.number = 1;
  p.start = 2048;
  p.sectors = 1u << 20;
  p.type = std::uint8_t{0x0C};
  layout.partitions.push_back(p);
  write_new_table(*device, layout);
  const Bytes front = device->read(0, 34);
  Random random(1);
  QuietProgress quiet;
  ReadOptions options;
  const Assessment assessment = assess(*device, {parse_goal("table=gpt")}, options, random);
  std::vector<double> plain, bare, journaled;
  for (int round = 0; round < 31; ++round) {
    device->write(0, front);
    device->write(sectors - 33, Bytes(33 * 512));
    device->flush();
    const auto rewrite = make_rewrite(assessment.steps.at(0), *device);
    Overlay overlay(*device);
    const Inspection inspection = Engine::inspect(*rewrite, overlay, owned_sectors);
    if (round % 2 == 0) {
      bare.push_back(seconds([&] { Engine(*device, quiet).run(*rewrite, inspection); }));
    } else {
      std::filesystem::remove(folder / "journal");
      journaled.push_back(seconds([&] {
        Journal journal = Journal::create(folder / "journal", *device, Undo::full);
        journal.record_step(0, *device, inspection, overlay, owned_sectors(*device));
        Engine(*device, quiet).run(*rewrite, inspection);
        journal.mark_done(0);
      }));
    }
    plain.push_back(seconds([&] {
      device->write(100, Bytes(67 * 512, 1));
      device->flush();
    }));
  }
  fmt::print(
      "MBR to GPT, disk of {:>8}: {:.1f} ms; against a plain write of 67 sectors {:.1f}; with the "
      "journal against without {:.2f}\n",
      format_bytes(sectors * 512), median(bare) * 1e3, median(bare) / median(plain),
      median(journaled) / median(bare));
}

// When each stage of a job began, to tell how much of it is rehearsal.
class Stages final : public Progress {
 public:
  void stage(std::string_view name, std::uint64_t) override {
    const auto now = std::chrono::steady_clock::now();
    if (!name_.empty()) seconds_[name_] += std::chrono::duration<double>(now - begun_).count();
    name_ = name.substr(0, name.find(' '));
    begun_ = now;
  }
  void advance(std::uint64_t) override {}
  [[nodiscard]] bool cancelled() const override { return false; }
  double of(const std::string& name) { return seconds_[name]; }

 private:
  std::string name_;
  std::chrono::steady_clock::time_point begun_;
  std::map<std::string, double> seconds_;
};

void shell(const std::string& command) {
  if (std::system(command.c_str()) != 0) throw Error(ErrorCode::file, command);
}

// Runs work in a process of its own; its peak memory in bytes.
std::uint64_t in_child(const std::function<void()>& work) {
  std::fflush(stdout);
  const pid_t child = fork();
  if (child == 0) {
    try {
      work();
    } catch (const std::exception& e) {
      fmt::print("{}\n", e.what());
      std::fflush(stdout);
      _exit(1);
    }
    std::fflush(stdout);
    _exit(0);
  }
  int status = 0;
  rusage usage{};
  wait4(child, &status, 0, &usage);
  if (status != 0) std::exit(1);
  return static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
}

// Writes straight to the device what a rewrite prepares.
class Straight final : public SectorSink {
 public:
  explicit Straight(Device& device) : device_(device) {}
  void write(std::uint64_t lba, ByteView data) override {
    device_.write(lba, data);
    bytes += data.size();
  }
  std::uint64_t bytes = 0;

 private:
  Device& device_;
};

// The same files on a FAT32 volume and in a plain folder.
void make_volume(const std::filesystem::path& folder, std::uint64_t files) {
  const std::uint64_t sectors = 600000 + files * 24;
  create_image(folder / "volume.img", sectors, 512, true);
  const auto device = open_device(folder / "volume.img", {true, 512});
  FatFormat format;
  format.cluster_sectors = 8;
  FatWriter writer(*device, format);
  Random random(5);
  Bytes content(8192);
  random.fill(content);
  for (std::uint64_t i = 0; i < files; ++i) {
    const std::string above = fmt::format("gauge {:05}", i / 200);
    if (i % 200 == 0) {
      writer.add_directory(above);
      std::filesystem::create_directories(folder / "plain" / above);
    }
    const std::string name = fmt::format("{}/reading number {:07}.csv", above, i);
    const std::size_t size = 500 + random.below(7500);
    writer.add_file(name, ByteView(content).first(size));
    std::ofstream(folder / "plain" / name, std::ios::binary)
        .write(reinterpret_cast<const char*>(content.data()), static_cast<std::streamsize>(size));
  }
  writer.finish();
  device->flush();
}

void forget(const Device& device) {
  device.forget({0, device.sectors()});
}

// The conversion alone, against the least that it could do: one read of FAT and folders, one write
// of as many bytes, each in one sweep.
void bench_conversion(const std::filesystem::path& folder, std::uint64_t files) {
  const auto path = folder / "volume.img";
  in_child([&] { make_volume(folder, files); });
  const ReadOptions options{Zone(), 437};
  double own = 0, least = 0;
  std::uint64_t written = 0;
  const auto assessed = [&](Device& device) {
    Random random(1);
    return assess(device, {parse_goal("volume=ntfs")}, options, random);
  };
  in_child([&] {
    const auto device = open_device(path, {true, 512});
    const Assessment a = assessed(*device);
    if (!a.in_reach()) throw Error(ErrorCode::refused, a.obstacles[0].text);
    const VolumeInfo info = open_volume(*device, options)->info();
    std::vector<double> owns, leasts;
    for (int round = 0; round < 3; ++round) {
      forget(*device);
      owns.push_back(seconds([&] {
        Straight sink(*device);
        make_rewrite(a.steps.at(0), *device)->prepare(sink);
        device->flush();
        written = sink.bytes;
      }));
      forget(*device);
      leasts.push_back(seconds([&] {
        // FAT and folders: one FAT, and a cluster for each folder of 200 and its entries.
        const std::uint64_t fat = (info.first_cluster - 32) / 2;
        const std::uint64_t folders = files / 200 * 5 * 8;
        Bytes piece(1u << 20);
        for (std::uint64_t at = 0; at + 2048 <= fat + folders; at += 2048) device->read(at, piece);
        const auto scratch = folder / "scratch";
        create_image(scratch, written / 512 + 2048, 512, true);
        const auto out = open_device(scratch, {true, 512});
        for (std::uint64_t at = 0; at < written / 512; at += 2048) out->write(at, piece);
        out->flush();
      }));
    }
    own = median(owns);
    least = median(leasts);
    std::ofstream(folder / "own") << own;
    fmt::print(
        "FAT32 to NTFS, {:>9} files: {:.2f} s for {} of structures, {:.1f} µs a file; against one "
        "plain read and write of as many bytes {:.2f}\n",
        format_count(files), own, format_bytes(written), own * 1e6 / static_cast<double>(files),
        own / least);
  });
  std::ifstream(folder / "own") >> own;
  in_child([&] {
    const auto device = open_device(path, {false, 512});
    QuietProgress quiet;
    std::uint64_t read = 0;
    const double taken = seconds([&] { read = take_manifest(*device, options, quiet).bytes(); });
    const double sums = seconds([&] {
      shell(fmt::format("find {}/plain -type f -print0 | xargs -0 -n 500 -P $(nproc) sha256sum >{}",
                        folder.string(), (folder / "sums").string()));
    });
    const double checked = seconds([&] { (void)check_volume(*device, options); });
    fmt::print(
        "  manifest: {:.2f} s for {} in files, the ordinary checksum program on as many cores "
        "{:.2f} "
        "s: {:.2f} times its speed; check of the FAT volume {} files a second\n",
        taken, format_bytes(read), sums, sums / taken,
        format_count(static_cast<std::uint64_t>(static_cast<double>(files) / checked)));
  });
  double whole = 0;
  const std::uint64_t peak = in_child([&] {
    const auto device = open_device(path, {true, 512});
    const Assessment a = assessed(*device);
    Stages stages;
    JobOptions job;
    job.read = options;
    job.case_folder = folder / "case";
    whole = seconds([&] {
      if (!run_job(*device, a, job, stages).sound())
        throw Error(ErrorCode::refused, "the job is not sound");
    });
    std::ofstream(folder / "whole") << whole;
    fmt::print("  of the job the rehearsal is {:.0f} %\n", stages.of("rehearsing") / whole * 100);
    const double copy = seconds([&] {
      shell(fmt::format("cp -r {0}/plain {0}/off && sync && cp -r {0}/off {0}/back && sync",
                        folder.string()));
    });
    fmt::print(
        "  the whole job, expected {:.1f} s: {:.1f} s; copying the files off and back takes "
        "{:.1f} s, {:.1f} times the conversion, {:.1f} times the job\n",
        a.expected_seconds, whole, copy, copy / own, copy / whole);
  });
  std::ifstream(folder / "whole") >> whole;
  in_child([&] {
    const auto device = open_device(path, {true, 512});
    QuietProgress quiet;
    const double checked = seconds([&] { (void)check_volume(*device, options); });
    const double back =
        seconds([&] { (void)revert_case(*device, load_case(folder / "case"), false, quiet); });
    fmt::print(
        "  check of the NTFS volume {} files a second; the way back {:.2f} s, {:.1f} times the "
        "job's\n",
        format_count(static_cast<std::uint64_t>(static_cast<double>(files) / checked)), back,
        back / whole);
  });
  fmt::print("  peak memory of the job: {}, {} bytes a file\n", format_bytes(peak), peak / files);
  for (const char* name :
       {"volume.img", "plain", "off", "back", "case", "scratch", "own", "whole", "sums"})
    std::filesystem::remove_all(folder / name);
}

}  // namespace

int main(int argc, char** argv) {
  const std::filesystem::path folder = argc > 1 ? argv[1] : ".";
  bench_rewrite(folder, 1u << 22);
  bench_rewrite(folder, ((1ull << 41) - (1u << 20)) / 512);
  bench_conversion(folder, 10000);
  bench_conversion(folder, 100000);
  std::filesystem::remove(folder / "bench.img");
  std::filesystem::remove(folder / "journal");
  return 0;
}
