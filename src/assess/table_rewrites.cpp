#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/assessment.h>
#include <nuvrat/error.h>
#include <nuvrat/table.h>

namespace nuvrat {
namespace {

// Zeros in large pieces; runs of sectors need no memory of their own.
void wipe(SectorSink& sink, const std::vector<SectorRange>& ranges, std::uint32_t sector_size) {
  constexpr std::uint64_t piece = 256;
  for (const SectorRange& range : ranges) {
    for (std::uint64_t at = 0; at < range.count; at += piece) {
      const std::uint64_t count = std::min(piece, range.count - at);
      sink.write(range.first + at, Bytes(count * sector_size));
    }
  }
}

// Both GPTs into free sectors, LBA 0 as the switch, then the EBRs go and LBA 0 loses its mark.
class MbrToGpt final : public Rewrite {
 public:
  explicit MbrToGpt(const Step& step) : step_(step), gpt_(build_gpt(step.target)) {
    std::copy(step.boot_code.begin(), step.boot_code.end(), gpt_.protective_mbr.begin());
  }

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    sink.write(gpt_.array.lba, gpt_.array.data);
    sink.write(gpt_.backup_array.lba, gpt_.backup_array.data);
    sink.write(gpt_.backup_header.lba, gpt_.backup_header.data);
    sink.write(gpt_.header.lba, gpt_.header.data);
  }

  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{0, gpt_.protective_mbr};
    set_settle_mark(out.data, true);
    return out;
  }

  void settle(SectorSink& sink) override {
    wipe(sink, step_.wipes, step_.target.sector_size);
    sink.write(0, gpt_.protective_mbr);
  }

 private:
  Step step_;
  GptBytes gpt_;
};

}  // namespace

std::string Step::name() const {
  if (kind == "table-gpt") return "MBR to GPT";
  return kind;
}

std::unique_ptr<Rewrite> make_rewrite(const Step& step) {
  if (step.kind == "table-gpt") return std::make_unique<MbrToGpt>(step);
  throw Error(ErrorCode::words, fmt::format("there is no rewrite called '{}'", step.kind));
}

}  // namespace nuvrat
