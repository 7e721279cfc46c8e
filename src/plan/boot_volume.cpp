#include "plan/boot_volume.h"

#include <algorithm>
#include <set>
#include <type_traits>

#include <nuvrat/error.h>

#include "base/ascii.h"
#include "boot/hive.h"

namespace nuvrat::plan {
namespace {

class ReadTwice final : public volume::PathReader {
 public:
  ReadTwice(const Device& device, const ReadOptions& options,
            std::unique_ptr<volume::PathReader> first)
      : device_(device), options_(options), first_(std::move(first)) {}

  [[nodiscard]] std::optional<volume::PathEntry> find(std::string_view path) override {
    return same(path, [&](volume::PathReader& reader) { return reader.find(path); });
  }
  [[nodiscard]] std::vector<volume::PathEntry> list(std::string_view path) override {
    return same(path, [&](volume::PathReader& reader) { return reader.list(path); });
  }
  [[nodiscard]] Bytes read(std::string_view path, std::uint64_t most) override {
    return same(path, [&](volume::PathReader& reader) { return reader.read(path, most); });
  }
  [[nodiscard]] Bytes head(std::string_view path, std::size_t bytes) override {
    return same(path, [&](volume::PathReader& reader) { return reader.head(path, bytes); });
  }

 private:
  // By a reader of its own, which keeps nothing of what the first one read.
  template <typename Ask>
  std::invoke_result_t<Ask, volume::PathReader&> same(std::string_view path, const Ask& ask) {
    auto out = ask(*first_);
    if (second_ == nullptr) second_ = volume::open_paths(device_, options_);
    if (second_ == nullptr || ask(*second_) != out)
      throw Error(ErrorCode::device_read,
                  "two reads of one place gave different bytes: the memory, the cable or the "
                  "adapter is not to be trusted",
                  {.subject = device_.identity().path, .path = std::string(path)},
                  "Try another port, cable or machine");
    return out;
  }

  const Device& device_;
  ReadOptions options_;
  std::unique_ptr<volume::PathReader> first_, second_;
};

bool only_these(volume::PathReader& files, const std::string& folder,
                const std::set<std::string>& known) {
  const std::vector<volume::PathEntry> there = files.list(folder);
  return std::all_of(there.begin(), there.end(), [&known](const volume::PathEntry& e) {
    const bool of_format = e.name.starts_with("$") || e.name == ".";
    return of_format || known.count(base::ascii_lower(e.name)) != 0;
  });
}

}  // namespace

OpenVolume::OpenVolume(const PlanInput& in, const Partition& p)
    : window(std::make_unique<Window>(in.device, p.range())) {
  auto first = volume::open_paths(*window, in.options);
  if (first != nullptr) files = std::make_unique<ReadTwice>(*window, in.options, std::move(first));
}

bool only_boot_files(volume::PathReader& files, BootWay way) {
  if (way == BootWay::uefi)
    return only_these(files, "", {"efi", "system volume information"}) &&
           only_these(files, "EFI", {"boot", "microsoft"});
  return only_these(files, "",
                    {"boot", "bootmgr", "bootnxt", "bootsect.bak", "system volume information",
                     "$recycle.bin", "recovery", "bootstat.dat", "boottel.dat"});
}

FoundHive open_hive(volume::PathReader& files, const std::string& path, std::uint64_t most) {
  try {
    boot::HiveFile hive = boot::read_hive(files, path, most);
    if (const auto fault = boot::hive_fault(hive.file, hive.logs)) return {{}, *fault};
    return {std::move(hive.file), ""};
  } catch (const Error& e) {
    if (e.code() == ErrorCode::device_read) throw;
    return {{}, e.message()};
  }
}

}  // namespace nuvrat::plan
