#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/error.h>

#include "assess/rewrites.h"

namespace nuvrat {
namespace {

// Both GPTs into free sectors, LBA 0 as the switch, then the EBRs go and LBA 0 loses its mark.
class MbrToGpt final : public Rewrite {
 public:
  explicit MbrToGpt(const Step& step) : step_(step), gpt_(build_gpt(step.target)) {
    keep_boot_code(step.sector0, gpt_.protective_mbr);
  }

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    write_entries(sink, gpt_);
    write_backup(sink, gpt_);
    sink.purpose("header of the GPT");
    sink.write(gpt_.header.lba, gpt_.header.data);
  }

  [[nodiscard]] std::string switch_purpose() const override { return "protective MBR"; }

  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{0, gpt_.protective_mbr};
    set_settle_mark(out.data, true);
    return out;
  }

  void settle(SectorSink& sink) override {
    wipe_sectors(sink, step_.wipes, step_.target.sector_size, "old EBRs, wiped");
    sink.purpose("protective MBR, without the mark of an unfinished settle");
    sink.write(0, gpt_.protective_mbr);
  }

 private:
  Step step_;
  GptBytes gpt_;
};

// A new chain of EBRs into free sectors, LBA 0 as the switch, then the old chain or the old GPT
// goes.
class ToMbr final : public Rewrite {
 public:
  explicit ToMbr(const Step& step) : step_(step), mbr_(build_mbr(step.target, step.sector0)) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    if (!step_.new_chain) return;
    sink.purpose("new chain of EBRs");
    for (const SectorWrite& w : mbr_.ebrs) sink.write(w.lba, w.data);
  }

  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{0, mbr_.sector0};
    if (!step_.wipes.empty()) set_settle_mark(out.data, true);
    return out;
  }
  [[nodiscard]] std::string switch_purpose() const override { return "MBR"; }

  void settle(SectorSink& sink) override {
    if (step_.wipes.empty()) return;
    wipe_sectors(sink, step_.wipes, step_.target.sector_size, "old GPT or EBRs, wiped");
    sink.purpose("MBR, without the mark of an unfinished settle");
    sink.write(0, mbr_.sector0);
  }

 private:
  Step step_;
  MbrBytes mbr_;
};

}  // namespace

void keep_boot_code(ByteView sector0, ByteSpan out) {
  constexpr std::size_t code_bytes = 440;
  std::copy_n(sector0.begin(), std::min(code_bytes, sector0.size()), out.begin());
}

void wipe_sectors(SectorSink& sink, const std::vector<SectorRange>& ranges,
                  std::uint32_t sector_size, std::string_view what) {
  sink.purpose(what);
  constexpr std::uint64_t piece = 256;
  for (const SectorRange& range : ranges) {
    for (std::uint64_t at = 0; at < range.count; at += piece) {
      const std::uint64_t count = std::min(piece, range.count - at);
      sink.write(range.first + at, Bytes(count * sector_size));
    }
  }
}

void write_entries(SectorSink& sink, const GptBytes& gpt, std::string_view what) {
  sink.purpose(what);
  sink.write(gpt.array.lba, gpt.array.data);
}

void write_backup(SectorSink& sink, const GptBytes& gpt) {
  sink.purpose("backup of the GPT");
  sink.write(gpt.backup_array.lba, gpt.backup_array.data);
  sink.write(gpt.backup_header.lba, gpt.backup_header.data);
}

std::string Step::name() const {
  if (kind == "table-gpt") return "MBR to GPT";
  if (kind == "table-mbr") return new_chain ? "new MBR and chain" : "new MBR";
  if (kind == "gpt-aside") return "changed GPT, aside";
  if (kind == "gpt-home") return "GPT in its place";
  if (kind == "gpt-mend") return "GPT mended";
  if (kind == "fat-to-ntfs") {
    const std::string where = volume.number == 0 ? "" : fmt::format("p{} ", volume.number);
    return fmt::format("{}from {} to NTFS", where, title_of(volume.from));
  }
  if (kind == "fat-mend" || kind == "fat-make-way") {
    return title + (volume.number == 0 ? "" : fmt::format(" on p{}", volume.number));
  }
  if (kind == "ebr-type") return fmt::format("type in the EBR at {}", lba);
  if (kind == "boot-sector") return fmt::format("boot sector of the volume at {}", lba);
  return kind;
}

std::unique_ptr<Rewrite> make_rewrite(const Step& step, Device& device) {
  if (step.kind == "fat-to-ntfs") return make_fat_to_ntfs(step, device);
  if (step.kind == "fat-mend" || step.kind == "fat-make-way") return make_fat_change(step, device);
  if (step.kind == "table-gpt") return std::make_unique<MbrToGpt>(step);
  if (step.kind == "table-mbr") return std::make_unique<ToMbr>(step);
  if (step.kind == "gpt-aside") return make_gpt_aside(step);
  if (step.kind == "gpt-home") return make_gpt_home(step);
  if (step.kind == "gpt-mend") return make_gpt_mend(step);
  if (step.kind == "boot-sector" || step.kind == "ebr-type") return make_one_sector(step);
  throw Error(ErrorCode::words, fmt::format("there is no rewrite called '{}'", step.kind));
}

}  // namespace nuvrat
