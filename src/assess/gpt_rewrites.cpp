// Changes inside a GPT, and of a volume's boot sector.

#include <algorithm>

#include "assess/rewrites.h"

namespace nuvrat {
namespace {

// The changed entries into a second array, LBA 1 as the switch. The header's first usable sector
// lies behind the second array meanwhile, so that strict readers take it at every moment.
class GptAside final : public Rewrite {
 public:
  explicit GptAside(const Step& step) : step_(step), gpt_(build_gpt(step.target, step.lba)) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    write_entries(sink, gpt_, "changed entries, in a second array");
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return gpt_.header; }
  [[nodiscard]] std::string switch_purpose() const override {
    return "GPT header, pointing at the second array";
  }
  void settle(SectorSink& /*sink*/) override {}

 private:
  Step step_;
  GptBytes gpt_;
};

// Entries to LBA 2 and the backup to the end, none of which counts now; LBA 1 as the switch; then
// the second array is wiped.
class GptHome final : public Rewrite {
 public:
  explicit GptHome(const Step& step) : step_(step), gpt_(build_gpt(step.target)) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    write_entries(sink, gpt_);
    write_backup(sink, gpt_);
  }
  [[nodiscard]] Exemptions exemptions(Phase /*phase*/) const override {
    return {{{{gpt_.backup_array.lba, gpt_array_sectors(step_.target.sector_size)},
              {gpt_.backup_header.lba, 1}},
             "the backup of the GPT is a copy: the primary counts"}};
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return gpt_.header; }
  [[nodiscard]] std::string switch_purpose() const override {
    return "GPT header, pointing at LBA 2 again";
  }
  void settle(SectorSink& sink) override {
    wipe_sectors(sink, step_.wipes, step_.target.sector_size, "second array, wiped");
  }

 private:
  Step step_;
  GptBytes gpt_;
};

// Of two copies one is good and stays as it is until the other is. A damaged primary: its entries,
// then LBA 1 as the switch, then the backup anew. A good primary: the backup, then LBA 1, which
// names it. Last of all LBA 0 protects the disk.
class GptMend final : public Rewrite {
 public:
  explicit GptMend(const Step& step)
      : step_(step),
        gpt_(build_gpt(step.target)),
        primary_is_bad_(step.mends == Step::Mends::primary) {
    keep_boot_code(step.sector0, gpt_.protective_mbr);
  }
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    if (primary_is_bad_) write_entries(sink, gpt_);
    if (step_.mends == Step::Mends::backup) write_backup(sink, gpt_);
  }
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    Exemptions out{{{{0, 1}}, "the protective MBR says nothing that the GPT doesn't"}};
    // While the primary is bad the backup is no copy: it is all there is.
    if (!primary_is_bad_ || phase == Phase::settle) {
      out.push_back({{{gpt_.backup_array.lba, gpt_array_sectors(step_.target.sector_size) + 1}},
                     "the backup of the GPT is a copy: the primary counts"});
    }
    return out;
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return gpt_.header; }
  [[nodiscard]] std::string switch_purpose() const override { return "GPT header"; }
  void settle(SectorSink& sink) override {
    if (primary_is_bad_) write_backup(sink, gpt_);
    sink.purpose("protective MBR");
    sink.write(0, gpt_.protective_mbr);
  }

 private:
  Step step_;
  GptBytes gpt_;
  bool primary_is_bad_;
};

// One sector with one field changed, then the copies of it.
class OneSector final : public Rewrite {
 public:
  explicit OneSector(const Step& step) : step_(step) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& /*sink*/) override {}
  [[nodiscard]] SectorWrite switch_sector() const override { return {step_.lba, step_.sector}; }
  [[nodiscard]] std::string switch_purpose() const override {
    return step_.kind == "ebr-type" ? "EBR, with another type"
                                    : "boot sector of a volume, with one field changed";
  }
  [[nodiscard]] Exemptions exemptions(Phase /*phase*/) const override {
    Exemption out{{}, "the second boot sector is a copy: the first one counts"};
    for (const std::uint64_t lba : step_.copies) out.sectors.add({lba, 1});
    return {out};
  }
  void settle(SectorSink& sink) override {
    if (!step_.copies.empty()) sink.purpose("second boot sector of the volume");
    for (const std::uint64_t lba : step_.copies) sink.write(lba, step_.sector);
  }

 private:
  Step step_;
};

}  // namespace

std::unique_ptr<Rewrite> make_gpt_aside(const Step& step) {
  return std::make_unique<GptAside>(step);
}
std::unique_ptr<Rewrite> make_gpt_home(const Step& step) {
  return std::make_unique<GptHome>(step);
}
std::unique_ptr<Rewrite> make_gpt_mend(const Step& step) {
  return std::make_unique<GptMend>(step);
}
std::unique_ptr<Rewrite> make_one_sector(const Step& step) {
  return std::make_unique<OneSector>(step);
}

}  // namespace nuvrat
