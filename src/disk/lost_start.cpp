#include "disk/lost_start.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "volume/kinds.h"

namespace nuvrat::disk {
namespace {

using volume::BootCopy;
using volume::CopyCheck;

// A copy that is left of a volume that was there once makes no sound one.
const BootCopy* only_sound(const std::vector<BootCopy>& copies) {
  const auto is_sound = [](const BootCopy& c) { return c.is_sound(); };
  if (std::count_if(copies.begin(), copies.end(), is_sound) != 1) return nullptr;
  return &*std::find_if(copies.begin(), copies.end(), is_sound);
}

std::string words_of_volume(const VolumeInfo& info) {
  return fmt::format("{} of {}{}", title_of(info.kind), format_bytes(info.bytes),
                     info.label.empty() ? "" : ", label '" + printable(info.label) + "'");
}

std::string words_of_copies(const std::vector<BootCopy>& copies, const BootCopy* good, bool deep,
                            std::uint64_t start) {
  if (good != nullptr || copies.size() == 1) {
    const BootCopy& copy = good != nullptr ? *good : copies.front();
    std::string text = fmt::format("the second boot sector, sector {}, is of {}", start + copy.at,
                                   words_of_volume(copy.info));
    if (!deep) return text + "; 'nuvrat check' says whether it can be put back";
    const auto wrong = std::count_if(copy.findings.begin(), copy.findings.end(),
                                     [](const auto& f) { return f.severity != Severity::note; });
    return text + (wrong == 0 ? ", and with it the volume is sound"
                              : fmt::format(", and with it {} wrong",
                                            wrong == 1 ? "one thing is"
                                                       : fmt::format("{} things are", wrong)));
  }
  std::string text = fmt::format("there are {} second boot sectors", copies.size());
  for (const BootCopy& copy : copies) {
    text += fmt::format("{} sector {} of {}", &copy == &copies.front() ? ":" : ",", start + copy.at,
                        words_of_volume(copy.info));
  }
  return text + (deep ? "; which is the volume's a person must decide" : "");
}

}  // namespace

std::optional<LostStart> look_without_start(const Device& volume, const ReadOptions& options,
                                            bool deep, const std::string& trouble,
                                            std::uint64_t start) {
  const auto copies = find_boot_copies(volume, options, deep ? CopyCheck::whole : CopyCheck::none);
  if (copies.empty()) return std::nullopt;
  const Bytes first = trouble.empty() ? volume.read(0) : Bytes(volume.sector_size());
  const BootCopy* good = deep ? only_sound(copies) : nullptr;
  const std::string state = !trouble.empty()  ? "the first sector makes no sense: " + trouble
                            : all_zero(first) ? "the first sector is empty"
                                              : "the first sector is not a boot sector";
  // What Nuvrat doesn't know may be another system's, on a place where a volume was before.
  const bool lost = !trouble.empty() || all_zero(first) || volume::has_boot_signature(first);
  LostStart out;
  out.findings.push_back({Rule::volume_boot_lost,
                          lost ? Severity::error : Severity::warning,
                          {.sector = 0},
                          state + "; " + words_of_copies(copies, good, deep, start),
                          good != nullptr});
  // What the check says of the volume as it is with it, or why it can't be put back.
  const BootCopy* told = good == nullptr && deep && copies.size() == 1 ? &copies.front() : good;
  if (told == nullptr) return out;
  out.findings.insert(out.findings.end(), told->findings.begin(), told->findings.end());
  out.totals = told->totals;
  return out;
}

namespace {

VolumeKind kind_if_given(const Device& device) {
  try {
    return recognise_volume(device).kind;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
    return VolumeKind::unknown;
  }
}

}  // namespace

bool is_bare_volume(const Device& device, const TableReading& table) {
  if (table.layout.kind == TableKind::gpt || !table.layout.partitions.empty()) return false;
  if (kind_if_given(device) != VolumeKind::unknown) return true;
  // A jump begins a volume's boot sector, whatever else of it is lost.
  const bool no_table = table.layout.kind == TableKind::none || table.sector0.front() == 0xEB ||
                        table.sector0.front() == 0xE9;
  return (no_table && !find_boot_copies(device, {}, CopyCheck::none).empty()) ||
         !volume::trace_of_volume(device).empty();
}

std::string second_boot_words(const Device& volume, const ReadOptions& options) {
  const auto copies = find_boot_copies(volume, options, CopyCheck::none);
  if (copies.empty()) return "";
  return fmt::format("the second boot sector, {} on, is of {}",
                     plural(copies.front().at, "sector", "sectors"),
                     words_of_volume(copies.front().info));
}

std::string lost_start_words(const Device& volume, const ReadOptions& options) {
  const std::string second = second_boot_words(volume, options);
  return second.empty() ? "" : "its first sector is not a boot sector; " + second;
}

std::optional<BootCopy> likely_boot_copy(const Device& volume, const ReadOptions& options) {
  auto copies = find_boot_copies(volume, options, CopyCheck::none);
  if (copies.size() > 1) copies = find_boot_copies(volume, options, CopyCheck::whole);
  if (copies.size() == 1) return std::move(copies.front());
  const BootCopy* good = only_sound(copies);
  return good == nullptr ? std::nullopt : std::optional(*good);
}

}  // namespace nuvrat::disk
