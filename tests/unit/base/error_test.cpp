// The library's face: versions, names of errors, and calls without what nobody minds.

#include <set>
#include <stop_token>
#include <thread>

#include <doctest/doctest.h>
#include <fmt/core.h>

#include <nuvrat/fault.h>
#include <nuvrat/nuvrat.h>
#include <nuvrat/stop.h>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;

TEST_CASE("face: the headers' version is the library's, and every error has a name of its own") {
  CHECK(fmt::format("{}.{}.{}", NUVRAT_VERSION_MAJOR, NUVRAT_VERSION_MINOR, NUVRAT_VERSION_PATCH) ==
        version());
  std::set<std::string> names;
  for (const ErrorCode code :
       {ErrorCode::words, ErrorCode::refused, ErrorCode::busy, ErrorCode::device_read,
        ErrorCode::device_write, ErrorCode::damaged, ErrorCode::guard, ErrorCode::cancelled,
        ErrorCode::cut_off, ErrorCode::not_compared, ErrorCode::file})
    names.insert(name_of(code));
  CHECK(names.size() == 11);
}

TEST_CASE("face: a share of a partition is answered with the size that it would be") {
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.disk_sectors = 1u << 22;
  Partition p;
  p.number = 2;
  p.start = 2048;
  p.sectors = 200u << 11;  // 200 MiB
  layout.partitions = {p};
  const auto remedy = [&](const char* word) {
    try {
      (void)parse_goal_for(word, layout);
    } catch (const Error& e) {
      return e.remedy();
    }
    return std::string("none");
  };
  CHECK(remedy("p2.size=20%") == "20% of p2 (200 MiB) is 40.0 MiB: say p2.size=40MiB");
  CHECK(remedy("P2.SIZE=-50%") == "50% of p2 (200 MiB) is 100 MiB: say p2.size=-100MiB");
  CHECK(remedy("p2.size=40MiB") == "none");
  CHECK(remedy("p9.size=20%").find("of what?") != std::string::npos);  // no such partition
  CHECK(remedy("p2.size=9999999999999999999%").find("of what?") != std::string::npos);
}

TEST_CASE("face: a tag is said as people type it, and no other is") {
  CHECK(says_tag("HVDM", "HVDM"));
  CHECK(says_tag(" hvdm\t", "HVDM"));
  CHECK_FALSE(says_tag("HVD", "HVDM"));
  CHECK_FALSE(says_tag("HV DM", "HVDM"));
  CHECK_FALSE(says_tag("", ""));
}

TEST_CASE("face: a job on a device that was opened for reading is refused before it looks") {
  const support::Folder folder;
  const std::string path = orrelune::logger_image(folder / "logger.img");
  const auto device = open_device(path);
  CHECK_FALSE(device->writable());
  CHECK_FALSE(Window(*device, {0, 8}).writable());
  CHECK(support::code_of([&] { device->write(0, Bytes(512)); }) == ErrorCode::device_write);
  JobOptions options;
  options.case_folder = folder / "case";
  const Assessment assessment = assess(*device, {parse_goal("table=gpt")});
  CHECK(support::code_of([&] { (void)run_job(*device, assessment, options); }) ==
        ErrorCode::refused);
  CHECK_FALSE(std::filesystem::exists(options.case_folder));
  QuietProgress quiet;
  // To rehearse it, reading is enough.
  CHECK(rehearse_job(*device, assessment, options, quiet).files > 0);
  MemoryDevice memory(64, 512);
  CHECK(FaultDevice(memory, {}).writable());
  WritableWindow part(memory, {8, 8});
  CHECK(part.writable());
}

TEST_CASE("face: a job without a case folder, and a span of no whole sectors, are named as such") {
  MemoryDevice disk(1 << 16, 512);
  Bytes odd(700);
  CHECK(support::code_of([&] { disk.read(0, odd); }) == ErrorCode::words);
  CHECK(support::code_of([&] { disk.write(0, odd); }) == ErrorCode::words);
  CHECK(support::code_of([&] { (void)disk.read(1 << 16); }) == ErrorCode::device_read);
  CHECK(support::code_of([&] { (void)disk.read(~std::uint64_t{0}, ~std::uint64_t{0}); }) ==
        ErrorCode::device_read);
  CHECK(support::code_of([&] { check_case_folder("", disk, true); }) == ErrorCode::words);
}

TEST_CASE("face: a stop token stops a job before its switch, and nothing was written") {
  const support::Folder folder;
  const std::string path = orrelune::logger_image(folder / "logger.img");
  const auto device = open_device(path, {.writable = true});
  const Assessment assessment = assess(*device, {parse_goal("table=gpt")});
  JobOptions options;
  options.case_folder = folder / "case";
  ErrorCode ended = ErrorCode::words;
  std::stop_source told_before;
  told_before.request_stop();
  std::jthread worker([&] {
    QuietProgress quiet;
    StopOnToken progress(told_before.get_token(), quiet);
    ended = support::code_of([&] { (void)run_job(*device, assessment, options, progress); });
  });
  worker.join();
  CHECK(ended == ErrorCode::cancelled);
  CHECK(disk_tag(*device, read_table(*device)) == assessment.tag);
}

TEST_CASE("face: a call handed on is the one that was meant") {
  std::size_t bytes = 0;
  const auto count = [&bytes](ByteView more) { bytes += more.size(); };
  const ByteSink counting = count;
  const ByteSink again = counting;  // NOLINT(performance-unnecessary-copy-initialization)
  again(Bytes(5));
  counting(Bytes(7));
  CHECK(bytes == 12);
  MemoryDevice disk(1 << 16, 512);
  const FunctionRef<SectorSet(const Device&)> function = owned_sectors;
  CHECK(function(disk) == owned_sectors(disk));
}
