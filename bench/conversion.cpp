// FAT32 to NTFS on volumes of many files: the conversion alone, the whole job, the checks, the
// manifest, the way back, each against the least or the ordinary way of doing it.

#include <filesystem>
#include <fstream>
#include <functional>

#include <fmt/core.h>

#include <nuvrat/fat_writer.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "measure.h"
#include "ntfs/edit.h"
#include "ntfs/volume.h"

using namespace nuvrat;

namespace bench {
namespace {

constexpr std::uint64_t per_folder = 200;
const ReadOptions options{Zone(), 437};

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
    const std::string above = fmt::format("gauge {:05}", i / per_folder);
    if (i % per_folder == 0) {
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

Assessment assessed(Device& device) {
  Random random(1);
  Assessment out = assess(device, {parse_goal("volume=ntfs")}, options, random);
  if (!out.in_reach()) throw Error(ErrorCode::refused, out.obstacles[0].text);
  return out;
}

// Bytes of one FAT and of the folders: what every reader of the volume must read.
std::uint64_t structures_of_fat(Device& device) {
  const auto reader = open_volume(device, options);
  const VolumeInfo info = reader->info();
  const FileTree tree = reader->take_tree();
  std::uint64_t in_files = 0;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    for (const SectorRange& e : tree.extents(id)) in_files += e.count * device.sector_size();
  }
  const std::uint64_t fat = (info.first_cluster - 32) / 2 * device.sector_size();
  const std::uint64_t used =
      (info.sectors - info.first_cluster) * device.sector_size() - info.free_bytes;
  return fat + used - in_files;
}

// Where what was written is when the clock stops, and what is read when it starts.
enum class At { medium, memory };

// One sweep over as many bytes, read and written.
double plain_sweep(const std::filesystem::path& folder, const Device& from, std::uint64_t read,
                   std::uint64_t written, At at) {
  const auto scratch = folder / "scratch";
  create_image(scratch, written / 512 + 4096, 512, true);
  const auto to = open_device(scratch, {true, 512});
  return seconds([&] {
    Bytes piece(1u << 20);
    for (std::uint64_t lba = 0; lba < read / 512 && lba + 2048 <= from.sectors(); lba += 2048)
      from.read(lba, piece);
    for (std::uint64_t lba = 0; lba < written / 512; lba += 2048) to->write(lba, piece);
    if (at == At::medium) to->flush();
  });
}

// The conversion alone, against the least that it could do: one read of FAT and folders, one write
// of as many bytes as are written, each in one sweep. From the medium and back to it; and in the
// system's memory.
void convert(const std::filesystem::path& folder, Figures& out) {
  const auto device = open_device(folder / "volume.img", {true, 512});
  const Assessment a = assessed(*device);
  const std::uint64_t min_read = structures_of_fat(*device);
  const VolumeChange& change = *a.steps.at(0).volume();
  const std::uint64_t min_written = change.needed_clusters * change.cluster_bytes;
  for (const At at : {At::medium, At::memory}) {
    const auto begin = [&] {
      if (at == At::medium) device->forget({0, device->sectors()});
    };
    std::vector<double> owns, leasts;
    for (int round = 0; round < 3; ++round) {
      begin();
      Meter meter(*device);
      owns.push_back(seconds([&] {
        Straight sink(meter);
        make_rewrite(a.steps.at(0), meter)->prepare(sink);
        if (at == At::medium) meter.flush();
      }));
      out["read"] = static_cast<double>(meter.bytes_read);
      out["written"] = static_cast<double>(meter.bytes_written);
      begin();
      leasts.push_back(plain_sweep(folder, *device, min_read, min_written, at));
      device->flush();
    }
    const std::string where = at == At::medium ? "" : "_memory";
    out["convert" + where] = median(owns);
    out["plain" + where] = median(leasts);
  }
  out["min_read"] = static_cast<double>(min_read);
  out["min_written"] = static_cast<double>(min_written);
  out["ntfs"] = static_cast<double>(min_written - change.log_bytes);
}

void read_fat(const std::filesystem::path& folder, Figures& out) {
  const auto device = open_device(folder / "volume.img", {false, 512});
  QuietProgress quiet;
  const double taken = seconds([&] { (void)take_manifest(*device, options, quiet); });
  out["manifest_seconds"] = taken;
  const double sums = seconds([&] {
    shell(fmt::format("find {}/plain -type f -print0 | xargs -0 -n 500 -P $(nproc) sha256sum >{}",
                      folder.string(), (folder / "sums").string()));
  });
  out["manifest"] = sums / taken;
  Meter meter(*device);
  out["fat_check"] = seconds([&] { (void)check_volume(meter, options); });
  out["fat_check_read"] = static_cast<double>(meter.bytes_read);
}

const char* case_name(Proof proof) {
  return proof == Proof::places ? "case-places" : "case";
}

void whole_job(const std::filesystem::path& folder, Proof proof, Figures& out) {
  const auto device = open_device(folder / "volume.img", {true, 512});
  const Assessment a = assessed(*device);
  Stages stages;
  JobOptions job;
  job.read = options;
  job.case_folder = folder / case_name(proof);
  job.proof = proof;
  const std::string name = proof == Proof::places ? "places" : "job";
  out[name] = seconds([&] {
    if (!run_job(*device, a, job, stages).sound())
      throw Error(ErrorCode::refused, "the job is not sound");
  });
  if (proof == Proof::places) return;
  out["rehearsal"] = stages.of("rehearsing") + stages.of("checking");
  out["expected"] = a.expected_seconds;
}

void way_back(const std::filesystem::path& folder, Proof proof, Figures& out) {
  const auto device = open_device(folder / "volume.img", {true, 512});
  QuietProgress quiet;
  out[proof == Proof::places ? "places_back" : "back"] =
      seconds([&] { (void)revert_case(*device, load_case(folder / case_name(proof)), {}, quiet); });
}

// A shadow edit alone: planned, and what it writes written to an empty image, where it would go.
void shadow_edit(const std::filesystem::path& folder, const Device& device, const std::string& name,
                 const ntfs::EditRequest& request, Figures& out) {
  std::optional<ntfs::Edit> laid_out;
  const double planned = seconds([&] {
    auto tried = ntfs::lay_out(device, request);
    if (auto* edit = std::get_if<ntfs::Edit>(&tried)) laid_out = std::move(*edit);
  });
  if (!laid_out) throw Error(ErrorCode::refused, "no room for the edit");
  const ntfs::Edit& edit = *laid_out;
  const std::uint64_t cluster = edit.geometry().cluster_bytes();
  create_image(folder / "scratch", edit.clusters() * cluster / 512 + 1, 512, true);
  const auto to = open_device(folder / "scratch", {true, 512});
  Meter meter(*to);
  out[name] = planned + seconds([&] {
                edit.write({[&](std::uint64_t at, ByteView data) { meter.write(at, data); },
                            [](std::string_view) {}});
                meter.flush();
              });
  out[name + "_written"] = static_cast<double>(meter.bytes_written);
  out[name + "_moved"] = static_cast<double>(edit.moved_clusters() * cluster);
  std::filesystem::remove(folder / "scratch");
}

void shadow_edits(const std::filesystem::path& folder, const Device& device, Figures& out) {
  const ntfs::Volume volume(device);
  const std::uint64_t clusters = volume.geometry().clusters();
  const std::uint64_t mib = (1u << 20) / volume.geometry().cluster_bytes();
  const auto run = [&](const char* name, const ntfs::EditRequest& request) {
    shadow_edit(folder, device, name, request, out);
  };
  run("edit", {.vacate = {{clusters / 50, clusters / 50}}});
  run("label", {.label = u"Orrelune"});
  run("shorter", {.clusters = clusters - clusters / 4});
  run("longer", {.clusters = clusters * 2});
  run("front", {.front = 500 * mib});
  out["mft"] = static_cast<double>(volume.mft().clusters() * volume.geometry().cluster_bytes());
}

// On a copy, since the way back comes next: NTFS to FAT32, and a shadow edit of its own.
void to_fat(const std::filesystem::path& folder, Figures& out) {
  shell(fmt::format("cp --sparse=always {0}/volume.img {0}/ntfs.img", folder.string()));
  const auto device = open_device(folder / "ntfs.img", {true, 512});
  shadow_edits(folder, *device, out);
  Random random(1);
  const Assessment a = assess(*device, {parse_goal("volume=fat32")}, options, random);
  if (!a.in_reach()) throw Error(ErrorCode::refused, a.obstacles[0].text);
  Meter meter(*device);
  device->forget({0, device->sectors()});
  out["to_fat"] = seconds([&] {
    for (const Step& step : a.steps) {
      const auto rewrite = make_rewrite(step, meter);
      Straight sink(meter);
      rewrite->prepare(sink);
      meter.flush();
      const SectorWrite change = rewrite->switch_sector();
      meter.write(change.lba, change.data);
      rewrite->settle(sink);
      meter.flush();
    }
  });
  const VolumeChange& change = *a.steps.back().volume();
  out["to_fat_moved"] = static_cast<double>(change.moved_clusters * change.cluster_bytes);
  out["to_fat_written"] = static_cast<double>(meter.bytes_written);
  device->forget({0, device->sectors()});
  out["to_fat_plain"] =
      plain_sweep(folder, *device, meter.bytes_read, meter.bytes_written, At::medium);
}

void after_it(const std::filesystem::path& folder, Figures& out) {
  const auto device = open_device(folder / "volume.img", {true, 512});
  Meter meter(*device);
  out["ntfs_check"] = seconds([&] { (void)check_volume(meter, options); });
  out["ntfs_check_read"] = static_cast<double>(meter.bytes_read);
}

Figures measure(const std::filesystem::path& folder, std::uint64_t files) {
  Figures all;
  const auto add = [&](const char* doing, const std::function<void(Figures&)>& work) {
    fmt::print(stderr, "{} files: {}\n", format_count(files), doing);
    all.merge(in_child(work));
  };
  (void)in_child([&](Figures&) { make_volume(folder, files); });
  add("the conversion alone", [&](Figures& out) { convert(folder, out); });
  all.erase("peak_bytes");
  add("manifest and check", [&](Figures& out) { read_fat(folder, out); });
  all.erase("peak_bytes");
  add("the whole job", [&](Figures& out) { whole_job(folder, Proof::contents, out); });
  all["job_peak"] = all["peak_bytes"];
  all.erase("peak_bytes");
  add("NTFS to FAT32, on a copy", [&](Figures& out) { to_fat(folder, out); });
  all["to_fat_peak"] = all["peak_bytes"];
  add("the check", [&](Figures& out) { after_it(folder, out); });
  add("the way back", [&](Figures& out) { way_back(folder, Proof::contents, out); });
  add("the job by places", [&](Figures& out) { whole_job(folder, Proof::places, out); });
  add("its way back", [&](Figures& out) { way_back(folder, Proof::places, out); });
  all["copy"] = seconds([&] {
    shell(fmt::format("cp -r {0}/plain {0}/off && sync && cp -r {0}/off {0}/back && sync",
                      folder.string()));
  });
  for (const char* name :
       {"volume.img", "ntfs.img", "plain", "off", "back", "case", "case-places", "scratch", "sums"})
    std::filesystem::remove_all(folder / name);
  all["files"] = static_cast<double>(files);
  return all;
}

}  // namespace

void conversions(const std::filesystem::path& folder, const std::vector<std::uint64_t>& sizes) {
  std::vector<Figures> all;
  for (const std::uint64_t files : sizes) all.push_back(measure(folder, files));
  const auto line = [&all](const std::string& what, const std::string& aim,
                           const std::function<std::string(Figures&)>& figure) {
    std::vector<std::string> figures;
    for (Figures& f : all) figures.push_back(figure(f));
    row(what, figures, aim);
  };
  const auto ratio = [&line](const std::string& what, const std::string& aim, const char* of,
                             const char* to, double scale = 1) {
    line(what, aim, [=](Figures& f) { return fmt::format("{:.2f}", scale * f[of] / f[to]); });
  };
  line("files", "",
       [](Figures& f) { return format_count(static_cast<std::uint64_t>(f["files"])); });
  line("manifest: speed against the checksum program's, as many cores", ">= 0.9",
       [](Figures& f) { return fmt::format("{:.2f} x", f["manifest"]); });
  line("FAT32 to NTFS: seconds", "",
       [](Figures& f) { return fmt::format("{:.2f} s", f["convert"]); });
  ratio("  against one plain read and write of as many bytes", "<= 2", "convert", "plain");
  ratio("  the same in the system's memory, not flushed", "", "convert_memory", "plain_memory");
  ratio("  microseconds a file", "", "convert", "files", 1e6);
  line("  a file's time against that on the smallest volume", "<= 1.3", [&all](Figures& f) {
    Figures& first = all.front();
    return fmt::format("{:.2f} x", f["convert"] / f["files"] / (first["convert"] / first["files"]));
  });
  ratio("  bytes read a file", "", "read", "files");
  ratio("  bytes read against one FAT and the folders", "", "read", "min_read");
  ratio("  bytes written a file", "", "written", "files");
  ratio("  bytes written against the new structures", "", "written", "min_written");
  ratio("  copying the files off and back against it", ">= 20", "copy", "convert");
  line("NTFS to FAT32: seconds", "",
       [](Figures& f) { return fmt::format("{:.2f} s", f["to_fat"]); });
  ratio("  against one plain read and write of as many bytes", "<= 2", "to_fat", "to_fat_plain");
  ratio("  microseconds a file", "", "to_fat", "files", 1e6);
  ratio("  bytes written a file", "", "to_fat_written", "files");
  ratio("  share of moved contents", "", "to_fat_moved", "to_fat_written");
  ratio("  bytes of peak memory a file, planning included", "", "to_fat_peak", "files");
  const auto edit = [&](const std::string& name, const std::string& what) {
    line(what, "", [=](Figures& f) { return fmt::format("{:.2f} s", f[name]); });
  };
  edit("edit", "a fiftieth of NTFS made free by shadows: seconds");
  ratio("  bytes written against contents moved", "", "edit_written", "edit_moved");
  edit("front", "NTFS 500 MiB to the front: seconds");
  ratio("  bytes written against $MFT", "", "front_written", "mft");
  edit("longer", "NTFS twice as long: seconds");
  line("  bytes written", "",
       [](Figures& f) { return format_bytes(static_cast<std::uint64_t>(f["longer_written"])); });
  edit("label", "NTFS with another label: seconds");
  line("  bytes written", "",
       [](Figures& f) { return format_bytes(static_cast<std::uint64_t>(f["label_written"])); });
  line("the whole job, every file hashed twice: seconds", "",
       [](Figures& f) { return fmt::format("{:.1f} s", f["job"]); });
  line("  expected", "", [](Figures& f) { return fmt::format("{:.1f} s", f["expected"]); });
  ratio("  against two manifests", "<= 1.2", "job", "manifest_seconds", 0.5);
  ratio("  bytes of peak memory a file", "<= 250", "job_peak", "files");
  ratio("  rehearsal's share", "", "rehearsal", "job");
  ratio("  the way back against the conversion", "<= 2", "back", "convert");
  ratio("  the way back against the job", "", "back", "job");
  ratio("  copying the files off and back against it", "", "copy", "job");
  line("the whole job by places: seconds", "",
       [](Figures& f) { return fmt::format("{:.1f} s", f["places"]); });
  ratio("  against the conversion", "<= 4", "places", "convert");
  ratio("  the way back against the conversion", "<= 2", "places_back", "convert");
  for (const std::string kind : {"fat", "ntfs"}) {
    line(fmt::format("check of the {} volume: files a second", kind == "fat" ? "FAT" : "NTFS"), "",
         [&kind](Figures& f) {
           return format_count(static_cast<std::uint64_t>(f["files"] / f[kind + "_check"]));
         });
    line("  bytes read against its structures", "", [&kind](Figures& f) {
      return fmt::format("{:.2f}",
                         f[kind + "_check_read"] / f[kind == "fat" ? "min_read" : "ntfs"]);
    });
  }
}

}  // namespace bench
