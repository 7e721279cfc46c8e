// Registry hives: written by the tests' own writer, changed through libhivex, read by a third hand.

#include "boot/hive.h"

#include <fstream>

#include <fmt/core.h>

#include <nuvrat/nuvrat.h>

#include "boot/store.h"
#include "station_hives.h"
#include "support.h"

using namespace nuvrat;

namespace {

constexpr std::uint64_t boot_at = 1u << 20, system_at = 101u << 20;

// Every value as another library reads it: path, type and bytes in hexadecimal, a line each.
std::vector<std::string> as_another_reads(const Bytes& hive) {
  const support::Folder folder;
  std::ofstream(folder / "hive", std::ios::binary)
      .write(reinterpret_cast<const char*>(hive.data()), static_cast<std::streamsize>(hive.size()));
  const auto ran = support::run(fmt::format("/usr/bin/python3 {}/unit/boot/read_hive.py {}",
                                            NUVRAT_TESTS_FOLDER, (folder / "hive").string()));
  INFO(ran.errors);
  REQUIRE(ran.status == 0);
  std::vector<std::string> out;
  for (std::size_t at = 0; at < ran.out.size();) {
    const std::size_t end = std::min(ran.out.find('\n', at), ran.out.size());
    out.push_back(ran.out.substr(at, end - at));
    at = end + 1;
  }
  std::sort(out.begin(), out.end());
  return out;
}

std::vector<std::string> as_we_read(const Bytes& hive) {
  std::vector<std::string> out;
  for (const auto& [path, value] : boot::Hive(hive, "the hive").dump()) {
    if (path.ends_with(std::string(2, '\0'))) continue;
    const std::size_t name = path.rfind('\0');
    std::string keys = path.substr(0, name);
    for (char& c : keys) c = c == '\0' ? '/' : c;
    std::string hex;
    for (const std::uint8_t b : value.bytes) hex += fmt::format("{:02x}", b);
    out.push_back(fmt::format("{}\\{} {} {}", keys, path.substr(name + 1), value.type, hex));
  }
  std::sort(out.begin(), out.end());
  return out;
}

boot::PartitionName gpt_name(std::uint8_t partition) {
  boot::PartitionName out;
  out.gpt = true;
  std::array<std::uint8_t, 16> id{};
  id[0] = partition;
  id[15] = 0xA0;
  out.partition = Guid(id);
  id[0] = 0xDD;
  out.disk = Guid(id);
  return out;
}

// As table=gpt boot=uefi would ask for.
boot::StoreChange to_uefi() {
  boot::StoreChange out;
  out.new_name = [](const boot::PartitionName& old) -> std::optional<boot::PartitionName> {
    if (!old.gpt && old.signature == orrelune::system_disk_signature && old.offset == system_at)
      return gpt_name(2);
    if (old.gpt && old.disk == gpt_name(2).disk) return old;
    return std::nullopt;
  };
  out.way = BootWay::uefi;
  out.boot_files = gpt_name(4);
  out.system = gpt_name(2);
  return out;
}

}  // namespace

TEST_CASE("hive: another library reads what we read, before and after a change") {
  const Bytes store = orrelune::make_hive(orrelune::boot_store(boot_at, system_at));
  const Bytes letters = orrelune::make_hive(orrelune::system_hive({boot_at, system_at, 5}));
  CHECK(as_we_read(store) == as_another_reads(store));
  CHECK(as_we_read(letters) == as_another_reads(letters));
  CHECK(as_we_read(letters).size() > 45);

  const boot::ChangedStore changed = boot::change_store(store, to_uefi());
  CHECK(changed.named == 3);  // the loader's two, and the one that wakes it
  CHECK(changed.left == 1);   // the archive's system is on another disk
  const auto now = as_another_reads(changed.file);
  CHECK(as_we_read(changed.file) == now);
  // Value by value: all but these are as they were.
  const auto old = as_another_reads(store);
  std::vector<std::string> fresh, gone;
  std::set_difference(now.begin(), now.end(), old.begin(), old.end(), std::back_inserter(fresh));
  std::set_difference(old.begin(), old.end(), now.begin(), now.end(), std::back_inserter(gone));
  CHECK(gone.size() == 9);    // five devices, four paths
  CHECK(fresh.size() == 10);  // the manager's path is new; the other disk's entry gets .efi, too
  const boot::StoreView view = boot::read_store(changed.file);
  CHECK(view.description == "Orrelune tide station");
  CHECK(view.loader == "\\Windows\\system32\\winload.efi");
  REQUIRE(view.device);
  CHECK(*view.device == gpt_name(2));

  // And back: what names partitions is as it was, and the manager has a path.
  boot::StoreChange back;
  back.new_name = [](const boot::PartitionName& name) -> std::optional<boot::PartitionName> {
    boot::PartitionName mbr;
    mbr.signature = orrelune::system_disk_signature;
    mbr.offset = name.gpt && name == gpt_name(2) ? system_at : boot_at;
    return name.gpt ? std::optional(mbr) : std::nullopt;
  };
  back.way = BootWay::legacy;
  back.boot_files.signature = orrelune::system_disk_signature;
  back.boot_files.offset = boot_at;
  const auto legacy = as_another_reads(boot::change_store(changed.file, back).file);
  std::vector<std::string> differs;
  std::set_difference(old.begin(), old.end(), legacy.begin(), legacy.end(),
                      std::back_inserter(differs));
  CHECK(differs.empty());
  CHECK(legacy.size() == old.size() + 1);
}

TEST_CASE("hive: letters follow, are set, and leave others alone") {
  const Bytes file = orrelune::make_hive(orrelune::system_hive({boot_at, system_at, 5}));
  const auto names = to_uefi().new_name;
  const boot::ChangedLetters changed = boot::change_letters(file, names, {{'P', gpt_name(2)}});
  CHECK(changed.followed == 1);
  const auto read = boot::read_letters(boot::Hive(changed.file, "the hive"));
  std::string text;
  for (const boot::HiveLetter& l : read)
    text += fmt::format("{}{} ", l.letter, !l.partition ? "-" : l.partition->gpt ? "gpt" : "mbr");
  CHECK(text ==
        "E"
        "mbr F- Pgpt Rmbr ");
  CHECK(as_we_read(changed.file) == as_another_reads(changed.file));
  // Nothing to do is nothing done.
  const auto same = [](const boot::PartitionName& n) { return std::optional(n); };
  CHECK(boot::change_letters(file, same, {}).file.empty());
}

TEST_CASE("hive: elements of a form that isn't known are left") {
  const Bytes known = boot::device_element(gpt_name(1));
  REQUIRE(known.size() == 88);
  CHECK(boot::read_device_element(known) == gpt_name(1));
  for (std::size_t i = 0; i < known.size(); ++i) {
    CAPTURE(i);
    Bytes other = known;
    other[i] ^= 0x40;
    const auto name = boot::read_device_element(other);
    const bool flags = i >= 20 && i < 24;
    const bool of_name = (i >= 32 && i < 48) || (i >= 56 && i < 72);
    CHECK(name.has_value() == (flags || of_name));
  }
  CHECK_FALSE(boot::read_device_element(ByteView(known).first(87)));
  CHECK_FALSE(boot::read_letter_value(Bytes(13)));
}

TEST_CASE("hive: unclosed, damaged and hostile ones are refused, or read as they are") {
  const Bytes good = orrelune::make_hive(orrelune::boot_store(boot_at, system_at));
  CHECK_FALSE(boot::hive_fault(good, {}));
  CHECK(boot::hive_fault(orrelune::make_hive(orrelune::boot_store(1, 2), 9, false), {}));
  CHECK(boot::hive_fault(Bytes(4096), {}));
  CHECK(boot::hive_fault(ByteView(good).first(5000), {}));
  Bytes log(good.begin(), good.begin() + 512);
  CHECK_FALSE(boot::hive_fault(good, {log, Bytes()}));
  log[4] = log[8] = 8;
  CHECK(boot::hive_fault(good, {log}));

  Random random(support::seed(5));
  int read = 0, refused = 0;
  const int rounds = support::is_long() ? 200000 : 3000;
  for (int i = 0; i < rounds; ++i) {
    Bytes bad = good;
    const std::uint64_t changes = 1 + random.below(4);
    for (std::uint64_t n = 0; n < changes; ++n) {
      const std::size_t at = 4096 + random.below(bad.size() - 4096);
      const std::uint8_t values[] = {0, 0xFF, 0x80, static_cast<std::uint8_t>(random.below(256))};
      bad[at] = values[random.below(4)];
    }
    try {
      (void)boot::change_store(bad, to_uefi());
      ++read;
    } catch (const Error& e) {
      const bool known = e.code() == ErrorCode::damaged || e.code() == ErrorCode::guard;
      if (!known) MESSAGE(e.what());
      CHECK(known);
      ++refused;
    }
  }
  MESSAGE(read << " read, " << refused << " refused");
  CHECK(refused > 100);
}
