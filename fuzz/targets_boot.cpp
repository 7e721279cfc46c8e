// Registry hives: boot stores and drive letters.

#include "boot/store.h"
#include "fuzz.h"
#include "station_hives.h"

namespace fuzz {

using namespace nuvrat;

namespace {

constexpr std::uint64_t boot_at = 1u << 20, system_at = 101u << 20;

// The header put right, or nothing behind it would ever be read.
Bytes mended_hive(ByteView input) {
  Bytes out(input.begin(), input.end());
  if (out.size() < 8192) out.resize(8192);
  for (std::size_t i = 0; i < 4; ++i) {
    out[i] = static_cast<std::uint8_t>("regf"[i]);
    out[8 + i] = out[4 + i];
  }
  put(out, 40, out.size() - 4096, 4);
  std::uint64_t sum = 0;
  for (std::size_t at = 0; at < 508; at += 4) sum ^= little(out, at, 4);
  if (sum == 0) sum = 1;
  if (sum == 0xFFFFFFFF) sum = 0xFFFFFFFE;
  put(out, 508, sum, 4);
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

}  // namespace

std::vector<Target> boot_targets() {
  return {{"hive", hive, hive_seeds}};
}

}  // namespace fuzz
